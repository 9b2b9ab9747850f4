cdef class Sums:
    cdef const int[::1] starts
    cdef const int[::1] indices
    cdef const double[::1] data
    cdef const double[::1] limits
    cdef const double[::1] signs
    cdef const unsigned char[::1] equations
    cdef const double[::1] lower
    cdef const double[::1] upper
    cdef const double[::1] x
    cdef unsigned char[::1] marked
    cdef double[::1] sums
    cdef int[::1] columns
    cdef double[::1] values
    cdef int[::1] rows
    cdef double[::1] slack
    cdef int count
    cdef int open_count
    cdef double limit
    cdef double terms
    cdef readonly double times
    cdef readonly int[::1] items
    cdef readonly double[::1] weights
    cdef readonly int kept
    cdef readonly double right
    cdef readonly double efficacy

    cdef int _farther(self, const double[::1] between, int last) noexcept nogil
    cdef bint _before(self, const double[::1] between, int one, int other) noexcept nogil

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
    cdef readonly int[::1] columns
    cdef readonly double[::1] values
    cdef readonly int[::1] rows
    cdef readonly double[::1] slack
    cdef readonly int count
    cdef readonly int open_count
    cdef readonly double limit
    cdef readonly double terms
    cdef readonly double times
    cdef readonly int[::1] items
    cdef readonly double[::1] weights
    cdef readonly int kept
    cdef readonly double right
    cdef readonly double efficacy

    cdef int _farther(self, const double[::1] between, int last) noexcept nogil
    cdef bint _before(self, const double[::1] between, int one, int other) noexcept nogil

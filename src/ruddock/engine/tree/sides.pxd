cdef class Sides:
    cdef int[::1] cp
    cdef int[::1] ci
    cdef double[::1] cx
    cdef readonly int[::1] starts
    cdef readonly int[::1] indices
    cdef readonly double[::1] values
    cdef int[::1] place
    cdef int[::1] entry
    cdef readonly double[::1] alike
    cdef readonly int[::1] middle

    cdef void turn(self, int e, bint takes) noexcept nogil

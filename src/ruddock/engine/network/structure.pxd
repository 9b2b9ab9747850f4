cdef class Structure:
    cdef readonly int m
    cdef const int[::1] starts
    cdef const int[::1] indices
    cdef const double[::1] values
    cdef const int[::1] row_starts
    cdef const int[::1] row_columns
    cdef readonly double[::1] factor
    cdef int[::1] queue

    cdef bint _spread(self, int root) noexcept nogil

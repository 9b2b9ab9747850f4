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


cdef class Subnetwork:
    cdef readonly int m
    cdef const int[::1] row_starts
    cdef const int[::1] row_columns
    cdef const double[::1] values
    cdef int[::1] parent
    cdef double[::1] share
    cdef readonly signed char[::1] chosen
    cdef signed char[::1] count
    cdef int[::1] holder
    cdef double[::1] held
    cdef int[::1] seen
    cdef double[::1] wanted
    cdef int[::1] touched

    cdef void _try(self, int i) noexcept nogil
    cdef int _find(self, int k) noexcept nogil

cdef class SymmetricProduct:
    cdef readonly int m
    cdef const int[::1] rp
    cdef const int[::1] rj
    cdef const double[::1] rx
    cdef const int[::1] cp
    cdef const int[::1] ci
    cdef const double[::1] cx
    cdef const int[::1] starts
    cdef const int[::1] indices
    cdef double[::1] total

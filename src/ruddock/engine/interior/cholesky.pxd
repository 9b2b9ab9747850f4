cdef class Cholesky:
    cdef readonly int n
    cdef int[::1] ap
    cdef int[::1] ai
    cdef double[::1] ax
    cdef int[::1] parent
    cdef int[::1] flag
    cdef int[::1] count
    cdef int[::1] stack
    cdef int[::1] pattern
    cdef long long[::1] lp
    cdef int[::1] li
    cdef double[::1] lx
    cdef long long[::1] filled
    cdef double[::1] d
    cdef double[::1] y
    cdef readonly long long entries
    cdef readonly double work
    cdef readonly int row
    cdef int analysed

    cdef int _analyse_row(self, int k) noexcept nogil
    cdef double _row(self, int k) noexcept nogil

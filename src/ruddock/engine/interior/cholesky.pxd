cdef class Cholesky:
    cdef readonly int n
    cdef readonly int count
    cdef int[::1] up
    cdef int[::1] ui
    cdef int[::1] ap
    cdef int[::1] ai
    cdef int[::1] first
    cdef int[::1] owner
    cdef long long[::1] rp
    cdef long long[::1] lp
    cdef int[::1] rows
    cdef long long[::1] filled
    cdef int[::1] flag
    cdef int[::1] head
    cdef int[::1] link
    cdef long long[::1] reached
    cdef int[::1] place
    cdef double[::1] lx
    cdef double[::1] ax
    cdef double[::1] part
    cdef readonly long long entries
    cdef readonly double work
    cdef double[::1] costs
    cdef int row
    cdef int at

    cdef int _add_row(self, int k) noexcept nogil
    cdef bint _supernode(self, int s) except -1 nogil
    cdef void _wait(self, int k, long long q) noexcept nogil
    cdef bint _finish(self, long long base, int height, int width) noexcept nogil
    cdef int _change(self, int s, int k) except -1 nogil
    cdef int _widen(self, long long size) except -1 with gil

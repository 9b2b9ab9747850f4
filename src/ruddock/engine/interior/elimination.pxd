cdef int FEW
cdef int SOME
cdef int MANY

cdef class EliminationTree:
    cdef readonly int n
    cdef int[::1] ap
    cdef int[::1] ai
    cdef readonly int[::1] parent
    cdef readonly int[::1] below
    cdef int[::1] flag
    cdef int row

    cdef int _follow(self, int k) noexcept nogil

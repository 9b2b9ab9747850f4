from ruddock.engine.tree.mending cimport Mending


cdef class Exchange(Mending):
    cdef long long[::1] last
    cdef long long steps

    cdef void _let_leave(self) noexcept nogil
    cdef void _let_come(self) noexcept nogil
    cdef int _who_comes(self, int i) noexcept nogil
    cdef bint _may_come(self, int j) noexcept nogil

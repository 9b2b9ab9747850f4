from ruddock.engine.tree.jump cimport Jump


cdef class Mending(Jump):
    cdef bint _is_better(self) noexcept nogil
    cdef int _undo(self, int count) noexcept nogil
    cdef int _another(self, int j) noexcept nogil
    cdef bint _mend(self, int count) noexcept nogil
    cdef int _best_mender(self) noexcept nogil

from ruddock.engine.simplex.breakpoints cimport Breakpoints
from ruddock.engine.simplex.core cimport Core


cdef class Push:
    cdef readonly Core core
    cdef Breakpoints points
    cdef readonly long long pivots

    cdef int _renew(self) except -1 nogil
    cdef int _push(self, int q) except -1 nogil
    cdef int _blocking(self, double direction) noexcept nogil

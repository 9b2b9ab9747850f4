from ruddock.engine.simplex.hot cimport HotStart
from ruddock.engine.tree.propagate cimport Propagator


cdef class Plunge:
    cdef HotStart hot
    cdef Propagator rows
    cdef long long budget
    cdef const unsigned char[::1] whole
    cdef int[::1] integers
    cdef double[:, ::1] gains
    cdef long long[:, ::1] counts
    cdef double[::1] lower
    cdef double[::1] upper
    cdef int[::1] moved
    cdef long long[::1] violated
    cdef double[::1] merit
    cdef readonly double value
    cdef readonly int column

    cdef bint _follow(self, int count) except -1
    cdef int _promising(self, int count, long long trusted) noexcept

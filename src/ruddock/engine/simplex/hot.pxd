from ruddock.engine.simplex.core cimport Core
from ruddock.engine.simplex.dual cimport DualSimplex
from ruddock.engine.simplex.judge cimport Judge


cdef class HotStart:
    cdef readonly Core core
    cdef readonly DualSimplex dual
    cdef readonly Judge judge
    cdef double[::1] lower
    cdef double[::1] upper
    cdef double[::1] unit
    cdef double[::1] rows
    cdef double offset
    cdef readonly double[::1] x
    cdef readonly double[::1] activity
    cdef readonly double[::1] y
    cdef readonly double[::1] reduced
    cdef readonly double[::1] proof
    cdef readonly double objective
    cdef readonly double bound

    cdef int _start(self, double[::1] cost, double far, bint afresh) except -1 nogil
    cdef int _run(self, double[::1] cost, double cutoff, long long budget, long long limit) except -1 nogil
    cdef void _judge(self, double[::1] cost) noexcept nogil
    cdef bint _optimal(self, double[::1] cost) noexcept nogil
    cdef bint _beyond(self, double[::1] cost, double cutoff) noexcept nogil
    cdef bint _refuted(self) noexcept nogil

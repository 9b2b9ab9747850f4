from ruddock.engine.simplex.breakpoints cimport Breakpoints
from ruddock.engine.simplex.candidates cimport Candidates
from ruddock.engine.simplex.core cimport Core
from ruddock.engine.simplex.lu cimport WorkVector


cdef class PrimalSimplex:
    cdef readonly Core core
    cdef Breakpoints points
    cdef Candidates columns
    cdef double[::1] reference
    cdef public double[::1] phase_cost
    cdef signed char[::1] banned
    cdef readonly int phase
    cdef readonly int entering
    cdef readonly double direction
    cdef int broken
    cdef public long long flips
    cdef double step
    cdef double no_gain
    cdef double least_broken
    cdef double least_cost
    cdef int stalled
    cdef bint settled
    cdef int retries
    cdef int perturbations
    cdef int in_a_row
    cdef int fruitless
    cdef int in_vain
    cdef bint by_number

    cdef void _begin(self) noexcept nogil
    cdef int _run(self, long long budget, long long limit) except -1 nogil
    cdef int _refresh(self) except -1 nogil
    cdef void _price_afresh(self) noexcept nogil
    cdef void _look_back(self) noexcept nogil
    cdef void _absorb(self) noexcept nogil
    cdef double _side(self, int j) noexcept nogil
    cdef int _choose_column(self) noexcept nogil
    cdef int _best_column(self) noexcept nogil
    cdef double _gain(self, int j) noexcept nogil
    cdef void _offer(self, int j) noexcept nogil
    cdef int _iterate(self, int q) except -1 nogil
    cdef bint _confirm(self, int q) noexcept nogil
    cdef int _ratio_test(self, int q) noexcept nogil
    cdef void _add_breakpoints(self, int p, double a) noexcept nogil
    cdef void _move(self, int q) noexcept nogil
    cdef void _leave(self, int r, bint upper) noexcept nogil
    cdef void _step_dual(self, int p, int q, int r) noexcept nogil
    cdef void _follow_phase(self) noexcept nogil
    cdef int _first_by_number(self) noexcept nogil
    cdef int _escape(self) noexcept nogil
    cdef void _perturb(self) noexcept nogil

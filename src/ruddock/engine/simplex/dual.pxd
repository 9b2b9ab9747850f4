from ruddock.engine.simplex.breakpoints cimport Breakpoints
from ruddock.engine.simplex.candidates cimport Candidates
from ruddock.engine.simplex.core cimport Core
from ruddock.engine.simplex.lu cimport WorkVector


cdef class DualSimplex:
    cdef readonly Core core
    cdef double[::1] infeasible
    cdef Breakpoints points
    cdef Candidates rows
    cdef int[::1] item
    cdef signed char[::1] mark
    cdef double[::1] entry
    cdef int packed
    cdef readonly int position
    cdef readonly double direction
    cdef public double cutoff
    cdef public double objective
    cdef double most
    cdef public long long flips
    cdef public int trusted
    cdef int stalled
    cdef int perturbations
    cdef int fruitless
    cdef public int retries

    cdef void measure(self) noexcept nogil
    cdef int iterate(self, long long budget, long long limit) except -1 nogil
    cdef int _refresh(self) except -1 nogil
    cdef void _begin(self) noexcept nogil
    cdef void _look_back(self) noexcept nogil
    cdef void _correct(self) noexcept nogil
    cdef void _measure(self) noexcept nogil
    cdef void _measure_one(self, int p) noexcept nogil
    cdef int _choose_row(self) noexcept nogil
    cdef int _best_row(self) noexcept nogil
    cdef void _offer(self, int p) noexcept nogil
    cdef void _gather(self) noexcept nogil
    cdef void _flip(self) noexcept nogil
    cdef void _step_dual(self, int q, int r, double entry) noexcept nogil
    cdef void _move_costs(self, double step, int q) noexcept nogil
    cdef void _step_primal(self, int p, int q, int r) noexcept nogil
    cdef void _update_weights(self, int p) noexcept nogil
    cdef void _perturb(self, double size) noexcept nogil
    cdef int _iterate(self, int p) except -1 nogil

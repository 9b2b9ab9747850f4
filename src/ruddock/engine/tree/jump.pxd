from ruddock.engine.tree.ranking cimport Ranking
from ruddock.engine.tree.sides cimport Sides


cdef double violation(double low, double high, double activity) noexcept nogil


cdef class Jump:
    cdef int[::1] cp
    cdef int[::1] ci
    cdef double[::1] cx
    cdef readonly Sides sides
    cdef int[::1] rp
    cdef int[::1] rj
    cdef double[::1] rx
    cdef readonly int m
    cdef readonly int n
    cdef double[::1] low
    cdef double[::1] high
    cdef double[::1] lower
    cdef double[::1] upper
    cdef signed char[::1] whole
    cdef double[::1] cost
    cdef readonly double[::1] x
    cdef double[::1] target
    cdef readonly double[::1] far
    cdef signed char[::1] sort
    cdef readonly double[::1] score
    cdef double[::1] activity
    cdef readonly double[::1] weight
    cdef double[::1] reach
    cdef long long[::1] jumped
    cdef long long[::1] changed
    cdef int[::1] good
    cdef int[::1] good_at
    cdef int[::1] dear
    cdef int[::1] dear_at
    cdef int[::1] broken
    cdef int[::1] broken_at
    cdef readonly double[::1] kept
    cdef double kept_value
    cdef int[::1] moved
    cdef int[::1] moved_at
    cdef int moved_count
    cdef Ranking ranking
    cdef bint greedy
    cdef bint listing
    cdef int good_count
    cdef int dear_count
    cdef readonly int broken_count
    cdef double aim
    cdef double pull
    cdef readonly double value
    cdef unsigned long long random
    cdef readonly long long touched
    cdef readonly long long moves

    cdef int _draw(self, int count) noexcept nogil
    cdef void _mark(self, int i) noexcept nogil
    cdef void _list_good(self) noexcept nogil
    cdef void _file(self, int j) noexcept nogil
    cdef double _worth(self, int j) noexcept nogil
    cdef void _file_dear(self, int j) noexcept nogil
    cdef int _keep(self, int[::1] items, int[::1] places, int count, int k, bint listed) noexcept nogil
    cdef double _gain(self, int j, double goal) noexcept nogil
    cdef void _rate(self, int j) noexcept nogil
    cdef double _rounded(self, int j, double goal, bint up) noexcept nogil
    cdef void _keep_plan(self) noexcept nogil
    cdef void _go_back(self) noexcept nogil
    cdef void _descend(self) noexcept nogil
    cdef void _add_up(self) noexcept nogil
    cdef void _step(self) noexcept nogil
    cdef double _merit(self, int j) noexcept nogil
    cdef int _best_good(self) noexcept nogil
    cdef int _best_of_row(self) noexcept nogil
    cdef int _cheaper(self) noexcept nogil
    cdef void _gain_weight(self) noexcept nogil
    cdef void _score_all(self, int[::1] rj, double[::1] score, int begin, int end, double more) noexcept nogil
    cdef void _move(self, int j) noexcept nogil

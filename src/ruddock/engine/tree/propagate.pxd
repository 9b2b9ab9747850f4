cdef class Propagator:
    cdef readonly int m
    cdef readonly int n
    cdef int[::1] rp
    cdef int[::1] rj
    cdef double[::1] rx
    cdef int[::1] cp
    cdef int[::1] ci
    cdef double[::1] row_lower
    cdef readonly double[::1] row_upper
    cdef signed char[::1] whole
    cdef const int[::1] of
    cdef const int[::1] gp
    cdef const int[::1] gg
    cdef double[::1] least_of
    cdef double[::1] most_of
    cdef signed char[::1] listed
    cdef int[::1] queue
    cdef signed char[::1] queued
    cdef readonly int[::1] moved
    cdef signed char[::1] is_moved
    cdef readonly int count
    cdef int first
    cdef int last
    cdef int waiting
    cdef public long long work

    cdef readonly int noted
    cdef int[::1] past
    cdef double[::1] past_low
    cdef double[::1] past_high

    cdef int follow(self, double[::1] low, double[::1] high, int[::1] columns, int count, long long budget) except? -2 nogil
    cdef int _note(self, int j, double[::1] low, double[::1] high) except -1 nogil
    cdef int _grow(self) except -1 with gil
    cdef void _tell(self, int j) noexcept nogil
    cdef void _enqueue(self, int i) noexcept nogil
    cdef void _enqueue_rows(self, int j) noexcept nogil
    cdef double _size(self, int i, double[::1] low, double[::1] high, bint added) noexcept nogil
    cdef int _row(self, int i, double[::1] low, double[::1] high) except -1 nogil
    cdef int _tighten(
        self, int j, bint upper, double bound, double error, double[::1] low, double[::1] high
    ) except -1 nogil
    cdef void _list(self, int i, int state) noexcept nogil
    cdef bint _grouped(self, int j) noexcept nogil
    cdef void _count(self, int g, double a, double low, double high) noexcept nogil
    cdef double _margin(self, double a, double loss, double limit) noexcept nogil
    cdef int _close(self, int j, double[::1] low, double[::1] high) except -1 nogil

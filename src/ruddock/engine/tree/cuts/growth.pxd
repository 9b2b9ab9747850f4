cdef class Growth:
    cdef const int[::1] rp
    cdef const int[::1] rj
    cdef const double[::1] rx
    cdef const int[::1] cp
    cdef const int[::1] ci
    cdef const double[::1] cx
    cdef readonly int[::1] members
    cdef unsigned char[::1] inside
    cdef int[::1] touched
    cdef unsigned char[::1] is_touched
    cdef double[::1] amount
    cdef int count
    cdef readonly int kept
    cdef int reached
    cdef readonly long long work

    cdef double _grow(
        self, int start, double turn, int most, const double[::1] need, const double[::1] above, const double[::1] paid
    ) noexcept nogil
    cdef void _take(self, int row) noexcept nogil
    cdef double _flow(
        self, int j, double turn, double total, const double[::1] above, const double[::1] paid
    ) noexcept nogil
    cdef double _distance(
        self, double turn, double total, const double[::1] above, const double[::1] paid
    ) noexcept nogil
    cdef int _next(
        self, double turn, double total, const double[::1] need, const double[::1] above, const double[::1] paid
    ) noexcept nogil

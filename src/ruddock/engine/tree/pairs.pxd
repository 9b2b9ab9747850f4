cdef class Pairs:
    cdef const int[::1] cp
    cdef const int[::1] ci
    cdef const double[::1] cx
    cdef const int[::1] rp
    cdef const int[::1] rj
    cdef const double[::1] low
    cdef const double[::1] high
    cdef const double[::1] lower
    cdef const double[::1] upper
    cdef const double[::1] cost
    cdef const int[::1] order
    cdef const unsigned char[::1] binary
    cdef double[::1] x
    cdef double[::1] activity
    cdef double[::1] change
    cdef int at
    cdef bint moved
    cdef readonly bint ended
    cdef readonly long long touched

    cdef bint _alone(self, int j) noexcept nogil
    cdef bint _with_another(self, int k) noexcept nogil
    cdef double _turn(self, int j) noexcept nogil
    cdef bint _mends(self, int j, int broken) noexcept nogil
    cdef bint _keeps(self, int i, double change) noexcept nogil
    cdef void _move(self, int j, double step) noexcept nogil

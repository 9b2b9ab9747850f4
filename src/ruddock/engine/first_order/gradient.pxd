cdef class HybridGradient:
    cdef readonly long long n
    cdef readonly long long m
    cdef const long long[::1] cp
    cdef const int[::1] ci
    cdef const double[::1] cx
    cdef const long long[::1] rp
    cdef const int[::1] rj
    cdef const double[::1] rx
    cdef const double[::1] lower
    cdef const double[::1] upper
    cdef const double[::1] cost
    cdef const double[::1] row_lower
    cdef const double[::1] row_upper
    cdef readonly double[::1] x
    cdef readonly double[::1] y
    cdef readonly double[::1] next_x
    cdef readonly double[::1] next_y
    cdef readonly double[::1] anchor_x
    cdef readonly double[::1] anchor_y
    cdef double[::1] ahead

    cdef void _step(self, double tau, double sigma) noexcept nogil
    cdef void _move(self, long long number) noexcept nogil

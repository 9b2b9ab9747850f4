cdef class Judge:
    cdef readonly int m
    cdef readonly int n
    cdef const int[::1] ap
    cdef const int[::1] ai
    cdef const double[::1] ax
    cdef const double[::1] row_lower
    cdef const double[::1] row_upper
    cdef const double[::1] lower
    cdef const double[::1] upper
    cdef const double[::1] costs
    cdef double terms
    cdef readonly double excess
    cdef readonly double wrong
    cdef readonly double objective
    cdef readonly double nearly
    cdef readonly bint endless

    cdef void weigh(
        self, double[::1] scaled, double[::1] unit, signed char[::1] code, double[::1] value, double[::1] total, double near
    ) noexcept nogil
    cdef void price(
        self, double[::1] dual, signed char[::1] code, double[::1] value, double[::1] total, double[::1] d
    ) noexcept nogil
    cdef bint refutes(self, double[::1] weight) noexcept nogil
    cdef void _add(
        self, double price, double size, double scale, signed char code, double lower, double upper, double value
    ) noexcept nogil


cdef double _excess(double value, double lower, double upper) noexcept nogil

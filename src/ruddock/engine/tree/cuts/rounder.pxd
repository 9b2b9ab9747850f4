from ruddock.engine.tree.cuts.sums cimport Sums


cdef class Rounder:
    cdef Sums sums
    cdef const unsigned char[::1] whole
    cdef const unsigned char[::1] usable
    cdef const unsigned char[::1] endless
    cdef const int[::1] by
    cdef const double[::1] slope
    cdef const double[::1] base
    cdef const double[::1] sign
    cdef const double[::1] z
    cdef const double[::1] span
    cdef const unsigned char[::1] whole_rows
    cdef const double[::1] room
    cdef double loss
    cdef int[::1] found
    cdef double[::1] value
    cdef unsigned char[::1] marked
    cdef int[::1] integers
    cdef int[::1] rest
    cdef double[::1] g
    cdef double[::1] at
    cdef double[::1] divisors
    cdef int count
    cdef int others
    cdef int steps
    cdef readonly double right
    cdef readonly double size
    cdef double negative
    cdef double left_over

    cdef bint _gather(self, const int[::1] item, const double[::1] own) noexcept nogil
    cdef void _split(self, const int[::1] row, const double[::1] weight, bint by_one) noexcept nogil
    cdef void _take_negative(self, double coefficient, double z) noexcept nogil
    cdef double _divisor(self, double limit, bint by_one) noexcept nogil
    cdef int _sizes(self) noexcept nogil
    cdef bint _fits(self, double divisor, bint finer) noexcept nogil
    cdef double _efficacy(self, double divisor, double limit) noexcept nogil
    cdef void _round_by(
        self, double divisor, double beta, const int[::1] row, const double[::1] weight, bint by_one
    ) noexcept nogil
    cdef void _count_limit(self, double term) noexcept nogil
    cdef void _add(self, int j, double amount) noexcept nogil
    cdef int _hand_over(self, bint good) noexcept nogil


cdef double _step(double g, double f) noexcept nogil

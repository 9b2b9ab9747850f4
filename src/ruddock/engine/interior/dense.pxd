cdef bint factorise(double[::1] array, long long place, int rows, int width) noexcept nogil
cdef void subtract(
    double[::1] array, long long first, int lead, int rows, int columns, int width,
    double[::1] into, long long place, int into_lead, bint keep,
) noexcept nogil

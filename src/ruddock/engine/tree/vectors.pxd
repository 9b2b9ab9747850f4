cpdef int narrow(
    const double[::1] reduced, const unsigned char[::1] whole, double[::1] lower, double[::1] upper, double room, int[::1] moved
) noexcept nogil
cpdef void distances(
    const double[::1] x,
    const int[::1] integers,
    const int[::1] semis,
    const double[::1] on_lower,
    const double[::1] on_upper,
    double[::1] far,
) noexcept nogil
cpdef long long scores(
    const double[:, ::1] total,
    const long long[:, ::1] count,
    double mean_down,
    double mean_up,
    const long long[::1] columns,
    const double[::1] x,
    double least,
    double[::1] result,
) noexcept nogil
cpdef bint outside(
    const double[::1] x,
    const unsigned char[::1] whole,
    const double[::1] lower,
    const double[::1] upper,
    double fixed,
    double room,
) noexcept nogil
cpdef void mix(
    const unsigned char[::1] chosen,
    const double[::1] lower,
    const double[::1] upper,
    const double[::1] other_lower,
    const double[::1] other_upper,
    double[::1] own_lower,
    double[::1] own_upper,
) noexcept nogil
cpdef int differences(
    const double[::1] lower,
    const double[::1] upper,
    const double[::1] other_lower,
    const double[::1] other_upper,
    int[::1] found,
) noexcept nogil

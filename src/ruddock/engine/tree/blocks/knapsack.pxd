cdef class Knapsack:
    cdef readonly int n
    cdef readonly long long high
    cdef readonly long long wide
    cdef long long rows
    cdef long long columns
    cdef const long long[:, ::1] weights
    cdef int[::1] item
    cdef int[::1] copies
    cdef double[:, ::1] value
    cdef unsigned char[:, ::1] kept
    cdef double[:, ::1] table

    cpdef double best(self, const double[::1] values, const int[::1] lower, const int[::1] upper, int[::1] x) except? -1
    cpdef int otherwise(
        self, const double[::1] values, const int[::1] lower, const int[::1] upper, const int[::1] x, double[::1] result
    ) except -1
    cdef bint _fits(self, const int[::1] lower) noexcept
    cdef void _begin(self) noexcept nogil
    cdef void _offer(self, int k, int now, int j, long long copies, double value) noexcept nogil
    cdef void _before(self, int j, bint free, double value) noexcept nogil
    cdef double _together(self, int now, int j, long long down, long long less) noexcept nogil

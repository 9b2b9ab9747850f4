cdef class Conflicts:
    cdef const int[::1] starts
    cdef const int[::1] members
    cdef const int[::1] owner_starts
    cdef const int[::1] owners
    cdef int[::1] stamp
    cdef int[::1] hits
    cdef readonly int[::1] touched
    cdef readonly int[::1] clique
    cdef unsigned char[::1] inside
    cdef int count
    cdef readonly int size
    cdef int epoch
    cdef readonly long long work

    cdef void _grow(self, const double[::1] worth, const long long[::1] degree, double least, double wanted) noexcept nogil
    cdef void _join(self, int literal) noexcept nogil
    cdef bint _fits(self, int k) noexcept nogil
    cdef int _most_worth(self, const double[::1] worth, double least) noexcept nogil
    cdef int _most_known(self, const long long[::1] degree) noexcept nogil

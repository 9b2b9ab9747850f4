cdef class Ranking:
    cdef double[::1] key
    cdef int[::1] items
    cdef int[::1] places
    cdef readonly int count

    cdef int first(self) noexcept nogil
    cdef void put(self, int j, double key) noexcept nogil
    cdef void remove(self, int j) noexcept nogil
    cdef void _set(self, int at, int j) noexcept nogil
    cdef void _raise(self, int at) noexcept nogil
    cdef void _lower(self, int at) noexcept nogil

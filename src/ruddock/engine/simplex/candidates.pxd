cdef class Candidates:
    cdef readonly int size
    cdef readonly int count
    cdef double cutoff
    cdef int[::1] item
    cdef signed char[::1] member
    cdef double[::1] merit

    cdef void clear(self) noexcept nogil
    cdef void add(self, int i) noexcept nogil
    cdef void drop(self, int k) noexcept nogil
    cdef void rebuild(self) noexcept nogil

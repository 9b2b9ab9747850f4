cdef class Breakpoints:
    cdef readonly int count
    cdef readonly int passed
    cdef readonly long long touched
    cdef int[::1] item
    cdef double[::1] size
    cdef double[::1] gap
    cdef double[::1] drop
    cdef int[::1] group

    cdef void clear(self) noexcept nogil
    cdef void add(self, int item, double size, double gap, double drop) noexcept nogil
    cdef int choose(self, double slope, double tolerance) noexcept nogil
    cdef int _preselect(self, double slope, double tolerance) noexcept nogil
    cdef void _swap(self, int a, int b) noexcept nogil

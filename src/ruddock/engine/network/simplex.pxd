cdef class NetworkSimplex:
    cdef readonly int nodes
    cdef readonly int given
    cdef readonly int arcs
    cdef int root
    cdef int[::1] tail
    cdef int[::1] head
    cdef double[::1] cost
    cdef double[::1] capacity
    cdef readonly double[::1] flow
    cdef readonly signed char[::1] state
    cdef readonly double[::1] potential
    cdef readonly int[::1] parent
    cdef readonly int[::1] above
    cdef int[::1] child
    cdef int[::1] next
    cdef int[::1] last
    cdef signed char[::1] upward
    cdef int[::1] depth
    cdef double tolerance
    cdef int block
    cdef int at
    cdef readonly long long pivots
    cdef readonly long long touched

    cdef int _entering(self) noexcept nogil
    cdef bint _pivot(self, int e) noexcept nogil
    cdef void _send(self, int e, double amount, int apex) noexcept nogil
    cdef void _link(self, int u, int p) noexcept nogil
    cdef void _unlink(self, int u) noexcept nogil
    cdef void _hang(self, int e, int inner, int outer, int out) noexcept nogil
    cdef void _walk(self, int top, double rise, bint anew) noexcept nogil

cdef class MinimumDegree:
    cdef readonly int n
    cdef int[::1] starts
    cdef int[::1] place
    cdef int[::1] begin
    cdef int[::1] length
    cdef int[::1] elements
    cdef signed char[::1] kind
    cdef signed char[::1] late
    cdef int early
    cdef int[::1] weight
    cdef int[::1] degree
    cdef int[::1] size
    cdef int[::1] first
    cdef int[::1] next
    cdef int[::1] last
    cdef long long[::1] mark
    cdef int[::1] outside
    cdef long long[::1] seen
    cdef long long[::1] hash
    cdef int[::1] bucket
    cdef int[::1] chain
    cdef int[::1] twin
    cdef int[::1] tail
    cdef readonly int[::1] order
    cdef long long[::1] tagged
    cdef long long tag
    cdef int used
    cdef readonly int done
    cdef int least
    cdef int chosen
    cdef int rest
    cdef long long stamp
    cdef readonly long long touched
    cdef readonly double work
    cdef bint ready

    cdef void _link_all(self) noexcept nogil
    cdef void _admit_late(self) noexcept nogil
    cdef void _link(self, int i) noexcept nogil
    cdef void _unlink(self, int i) noexcept nogil
    cdef int _next(self) noexcept nogil
    cdef int _make_room(self, int need) except -1 nogil
    cdef int _compact(self, int need) except -1 with gil
    cdef void _eliminate(self, int p) noexcept nogil
    cdef void _count_outside(self, int p) noexcept nogil
    cdef void _update(self, int p, int size) noexcept nogil
    cdef void _variables(self, int i, int at) noexcept nogil
    cdef void _find_twins(self, int p) noexcept nogil
    cdef bint _alike(self, int i, int j) noexcept nogil

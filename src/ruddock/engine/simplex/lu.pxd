from ruddock.engine.simplex.markowitz cimport Markowitz


cdef class WorkVector:
    cdef readonly int size
    cdef public int count
    cdef public double[::1] value
    cdef public int[::1] index

    cdef void clear(self) noexcept nogil
    cdef void push(self, int i, double x) noexcept nogil
    cdef void gather(self) noexcept nogil


cdef class BasisFactor:
    cdef readonly int m
    cdef readonly int updates
    cdef readonly long long touched
    cdef Markowitz markowitz
    cdef double[::1] diag
    # L by columns and by rows, both addressed by pivot row
    cdef int[::1] lc_begin
    cdef int[::1] lc_end
    cdef int[::1] lr_begin
    cdef int[::1] lr_end
    cdef int[::1] lr_index
    cdef double[::1] lr_value
    # U by columns and by rows, both addressed by pivot row, with room to grow
    cdef int[::1] uc_begin
    cdef int[::1] uc_count
    cdef int[::1] uc_index
    cdef double[::1] uc_value
    cdef int uc_used
    cdef int[::1] ur_begin
    cdef int[::1] ur_count
    cdef int[::1] ur_room
    cdef int[::1] ur_index
    cdef double[::1] ur_value
    cdef int ur_used
    # pivot orders: of the factorisation, and of U as updates move pivots to the end
    cdef int[::1] l_order
    cdef int[::1] u_order
    cdef int[::1] u_place
    cdef int u_length
    # row etas of the Forrest-Tomlin updates
    cdef int[::1] eta_begin
    cdef int[::1] eta_pivot
    cdef int[::1] eta_index
    cdef double[::1] eta_value
    cdef int eta_used
    # what an update needs, saved by forward() and backward()
    cdef WorkVector spike
    cdef WorkVector row
    # search stack
    cdef int[::1] topo
    cdef int[::1] stack
    cdef int[::1] resume
    cdef signed char[::1] seen
    cdef int[::1] slot_row
    cdef double density_l
    cdef double density_u
    cdef double density_lt
    cdef double density_ut
    cdef readonly long long fill

    cdef int factor(self, int[::1] head, int n, int[::1] ap, int[::1] ai, double[::1] ax) except -1 nogil
    cdef void _repair(self, int[::1] head, int n) noexcept nogil
    cdef int _index_l(self) except -1 nogil
    cdef int _index_u(self) except -1 nogil
    cdef int _grow_u_rows(self, int more) except -1 with gil
    cdef int _grow_u_columns(self, int more) except -1 with gil
    cdef int _grow_l_rows(self, int more) except -1 with gil
    cdef int _grow_etas(self, int more) except -1 with gil
    cdef double _substitute(
        self, WorkVector v, int[::1] begin, int[::1] end, bint counts, int[::1] index, double[::1] factor,
        int[::1] order, int length, bint down, bint scaled, double density,
    ) noexcept nogil
    cdef void forward(self, WorkVector v, bint save) noexcept nogil
    cdef void backward(self, WorkVector v, bint save) noexcept nogil
    cdef int update(self, int p, double pivot) except -1 nogil
    cdef int _reach(self, WorkVector v, int[::1] begin, int[::1] end, int[::1] index, bint counts) noexcept nogil
    cdef int _append_to_u_row(self, int i, int p, double value) except -1 nogil
    cdef void _copy(self, WorkVector source, WorkVector target) noexcept nogil
    cdef bint _sparse(self, WorkVector v, double density) noexcept nogil

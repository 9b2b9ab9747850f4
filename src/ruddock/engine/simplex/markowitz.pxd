cdef class Markowitz:
    cdef readonly int m
    cdef readonly int pivots
    cdef readonly long long touched
    # pivots in order: row, column slot, value
    cdef int[::1] pivot_row
    cdef int[::1] pivot_slot
    cdef double[::1] pivot_value
    # L by pivot step: multipliers below each pivot
    cdef int[::1] l_begin
    cdef int[::1] l_index
    cdef double[::1] l_value
    cdef int l_used
    # U off-diagonal entries as triplets (pivot row, column slot, value)
    cdef int[::1] t_row
    cdef int[::1] t_slot
    cdef double[::1] t_value
    cdef int t_used
    # which rows and slots have been pivoted
    cdef signed char[::1] row_done
    cdef signed char[::1] slot_done
    # active submatrix: columns with values, rows as patterns
    cdef int[::1] c_begin
    cdef int[::1] c_count
    cdef int[::1] c_room
    cdef int[::1] c_index
    cdef double[::1] c_value
    cdef int c_used
    cdef int[::1] r_begin
    cdef int[::1] r_count
    cdef int[::1] r_room
    cdef int[::1] r_index
    cdef int r_used
    # rows and columns chained by count
    cdef int[::1] c_first
    cdef int[::1] c_next
    cdef int[::1] c_prev
    cdef int[::1] r_first
    cdef int[::1] r_next
    cdef int[::1] r_prev
    cdef int[::1] queue
    cdef signed char[::1] mark
    cdef double[::1] multiplier
    cdef int best_row
    cdef int best_slot

    cdef int factor(self, int[::1] head, int n, int[::1] ap, int[::1] ai, double[::1] ax) except -1 nogil
    cdef int _load(self, int[::1] head, int n, int[::1] ap, int[::1] ai, double[::1] ax) except -1 nogil
    cdef int _column_singletons(self) except -1 nogil
    cdef int _row_singletons(self) except -1 nogil
    cdef int _open_nucleus(self) except -1 nogil
    cdef int _search(self, int active) noexcept nogil
    cdef int _consider_column(self, int q, double best_cost) noexcept nogil
    cdef double _column_max(self, int q) noexcept nogil
    cdef int _eliminate(self, int p, int q) except -1 nogil
    cdef int _update_column(self, int p, int q, int j, int first, int last) except -1 nogil
    cdef void _pivot(self, int p, int q, double value) noexcept nogil
    cdef int _record_u(self, int p, int q, double value) except -1 nogil
    cdef int _ensure_l(self, int more) except -1 nogil
    cdef int _grow_columns(self, int more) except -1 with gil
    cdef int _grow_rows(self, int more) except -1 with gil
    cdef int _grow_l(self, int more) except -1 with gil
    cdef int _grow_u(self, int more) except -1 with gil
    cdef void _drop_from_row(self, int i, int q) noexcept nogil
    cdef int _append_to_row(self, int i, int q) except -1 nogil
    cdef int _append_to_column(self, int q, int i, double value) except -1 nogil
    cdef void _link_column(self, int q) noexcept nogil
    cdef void _unlink_column(self, int q) noexcept nogil
    cdef void _link_row(self, int i) noexcept nogil
    cdef void _unlink_row(self, int i) noexcept nogil

cdef class ColumnScanner:
    cdef const unsigned char[::1] text
    # row names and a hash table of them; keys are their last 8 bytes, which are all of a short name
    cdef const unsigned char[::1] names
    cdef int[::1] name_begin
    cdef int[::1] table
    cdef unsigned long long[::1] keys
    cdef int mask
    cdef int objective
    # results
    cdef public int entries
    cdef public int columns
    cdef public int[::1] rows
    cdef public double[::1] values
    cdef public double[::1] costs
    cdef public int[::1] starts
    cdef public long long[::1] name_at
    cdef public int[::1] name_length
    cdef public signed char[::1] integer
    cdef public bint complete
    cdef int owner
    cdef int costed
    cdef double[::1] powers
    # the token found last
    cdef long long begin
    cdef long long end
    cdef int hashed
    cdef unsigned long long key
    cdef double number

    cdef int _find(self, const unsigned char* text) noexcept nogil
    cdef bint _named(self, const unsigned char* text, int row) noexcept nogil
    cdef bint _token(self, const unsigned char* text, long long at, long long stop) noexcept nogil
    cdef bint _same(self, const unsigned char* text, long long a, long long b, long long length) noexcept nogil
    cdef bint _number(self, const unsigned char* text, long long at, long long stop) noexcept nogil
    cdef bint _other_number(self) noexcept nogil
    cdef long long _scan(self, const unsigned char* text, long long stop, long long at) noexcept nogil
    cdef long long _scan_sides(self, const unsigned char* text, long long at, long long stop) noexcept nogil
    cdef bint _goes_on(self, const unsigned char* text, long long at, long long stop) noexcept nogil
    cdef void _open_column(self, const unsigned char* text, int inside) noexcept nogil
    cdef int _marker(self, const unsigned char* text, long long stop) noexcept nogil
    cdef bint _pairs(self, const unsigned char* text, long long stop) noexcept nogil

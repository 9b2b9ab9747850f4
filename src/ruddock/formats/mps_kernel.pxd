cdef class ColumnScanner:
    cdef const unsigned char[::1] text
    cdef long long size
    # row names and a hash table of them
    cdef const unsigned char[::1] names
    cdef int[::1] name_begin
    cdef int[::1] table
    cdef int mask
    # results
    cdef public int entries
    cdef public int columns
    cdef public int[::1] rows
    cdef public double[::1] values
    cdef public int[::1] starts
    cdef public long long[::1] name_at
    cdef public int[::1] name_length
    cdef public signed char[::1] integer
    cdef int[::1] last_owner
    cdef int owner
    cdef double[::1] powers
    # the token found last
    cdef long long begin
    cdef long long end
    cdef double number

    cdef int _hash(self, const unsigned char[::1] text, long long begin, long long end) noexcept nogil
    cdef int _find(self, long long begin, long long end) noexcept nogil
    cdef bint _token(self, long long at, long long stop) noexcept nogil
    cdef bint _same(self, long long a, long long b, long long length) noexcept nogil
    cdef bint _parse(self) noexcept nogil
    cdef long long _scan(self, long long at, long long stop) noexcept nogil
    cdef long long _scan_sides(self, long long at, long long stop) noexcept nogil
    cdef int _marker(self, long long stop) noexcept nogil
    cdef bint _pairs(self, long long stop) noexcept nogil

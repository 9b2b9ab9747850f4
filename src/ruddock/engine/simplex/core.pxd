from ruddock.engine.simplex.lu cimport BasisFactor, WorkVector


cdef class Core:
    cdef readonly int m
    cdef readonly int n
    cdef readonly int total
    # A by columns and by rows
    cdef int[::1] ap
    cdef int[::1] ai
    cdef double[::1] ax
    cdef int[::1] rp
    cdef int[::1] rj
    cdef double[::1] rx
    cdef double[::1] uniform
    # working problem and state, columns first, then one logical per row
    cdef public double[::1] lower
    cdef public double[::1] upper
    cdef public double[::1] cost
    cdef public double[::1] x
    cdef public double[::1] d
    cdef public signed char[::1] code
    cdef public int[::1] head
    cdef public int[::1] place
    cdef public double[::1] weight
    cdef public double[::1] random
    cdef readonly BasisFactor factor
    cdef readonly WorkVector rho
    cdef readonly WorkVector column
    cdef readonly WorkVector aux
    cdef readonly WorkVector row
    cdef public double primal_tolerance
    cdef public double dual_tolerance
    cdef public double least_pivot
    cdef public double safe_pivot
    cdef public bint factored
    cdef public bint cost_changed
    cdef public bint bounds_changed
    cdef public long long iterations
    cdef public long long refactorings
    cdef public long long touched
    cdef long long factor_fill
    cdef long long renewal  # work of the last renewal of the factors
    cdef long long renewed  # all work up to then
    cdef double cheapest  # mean work of an iteration since, at its least

    cdef int refactor(self) except -1 nogil
    cdef bint due(self) noexcept nogil
    cdef void start_ageing(self, long long begin) noexcept nogil
    cdef double least_gain(self) noexcept nogil
    cdef void settle(self, int j) noexcept nogil
    cdef void load(self, int j, WorkVector v) noexcept nogil
    cdef void add_column(self, int j, double factor, WorkVector v) noexcept nogil
    cdef void price(self, WorkVector rho, WorkVector row) noexcept nogil
    cdef void _find_uniform(self) noexcept nogil
    cdef int _price_uniform(self, int i, double y, WorkVector row, int count) noexcept nogil
    cdef void compute_primal(self) noexcept nogil
    cdef void compute_dual(self, double[::1] cost) noexcept nogil
    cdef void exchange(self, int p, int q, int r) noexcept nogil
    cdef void reprice(self, double[::1] cost) noexcept nogil
    cdef bint rebound(self, double[::1] lower, double[::1] upper, double[::1] unit, double far, bint carries) noexcept nogil
    cdef double wrong_signs(self) noexcept nogil
    cdef void dual_values(self, double[::1] costs, double[::1] scales, double[::1] result) noexcept nogil
    cdef long long work(self) noexcept nogil

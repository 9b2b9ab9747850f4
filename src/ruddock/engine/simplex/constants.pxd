cdef enum:
    BASIC = 0
    AT_LOWER = 1
    AT_UPPER = 2
    FREE = 3

    GOING_ON = 0
    DONE = 1
    INFEASIBLE = 2
    BEYOND = 3
    AT_LIMIT = 4
    STUCK = 5
    DOUBTFUL = 6

# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""What every node of a search does to vectors of all columns, each in one pass."""

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import floor
else:
    from math import floor

INFINITY = cython.declare(cython.double, float("inf"))
LEAST = cython.declare(cython.double, 1e-9)  # reduced costs below this are none
ACCURACY = cython.declare(cython.double, 1e-9)  # relative, of reduced costs
MOST_ERROR = cython.declare(cython.double, 0.1)  # of a step: where it may be off by more, nothing is narrowed
ROOM = cython.declare(cython.double, 1e-6)  # of a step, by which narrowing is careful


def narrow(reduced, whole, lower, upper, room, moved):
    """Narrow bounds of integer columns in place by reduced costs.

    Parameters
    ----------
    reduced : float array, shape (n,)
    whole : bool array, shape (n,)
    lower, upper : float arrays, shape (n,); changed in place
    room : by how much the objective may still rise
    moved : int32 array, shape (n,); gets the numbers of the columns that moved

    Returns
    -------
    int
        How many moved.
    """
    j: cython.int
    price: cython.double
    steps: cython.double
    count: cython.int = 0
    for j in range(reduced.shape[0]):
        price = abs(reduced[j])
        if price <= LEAST or not whole[j] or lower[j] >= upper[j]:
            continue
        steps = room / price
        if not ACCURACY * steps < MOST_ERROR:
            continue
        steps = floor(steps * (1.0 + ACCURACY) + ROOM)
        if reduced[j] > 0.0:
            if lower[j] == -INFINITY or lower[j] + steps >= upper[j]:
                continue
            upper[j] = lower[j] + steps
        else:
            if upper[j] == INFINITY or upper[j] - steps <= lower[j]:
                continue
            lower[j] = upper[j] - steps
        moved[count] = j
        count += 1
    return count


def distances(x, integers, semis, on_lower, on_upper, far):
    """Set for each column how far its value is from one that its kind allows.

    Parameters
    ----------
    x : float array, shape (n,)
    integers, semis : int32 arrays
        Numbers of the columns of either kind.
    on_lower, on_upper : float arrays, shape (n,)
        Bounds of semicontinuous columns while they are not zero.
    far : float array, shape (n,); must be zero
    """
    j: cython.int
    k: cython.int
    v: cython.double
    for k in range(integers.shape[0]):
        j = integers[k]
        v = x[j] - floor(x[j])
        far[j] = min(v, 1.0 - v)
    for k in range(semis.shape[0]):
        j = semis[k]
        v = max(on_lower[j] - x[j], x[j] - on_upper[j], 0.0)
        far[j] = max(far[j], min(abs(x[j]), v))


def scores(total, count, mean_down, mean_up, columns, x, least, result):
    """Set how much branching on each column promises: the product of what is expected either way.

    Parameters
    ----------
    total, count : arrays, shape (2, n)
        Gains per unit, added up, and how many; down and up.
    mean_down, mean_up : what a column without history takes
    columns, result : arrays of one length
    x : float array, shape (n,)
        Values of all columns, on whose fractions gains depend.
    least : what a gain counts at least

    Returns
    -------
    int
        How much history the column with the least has, the shorter of both sides.
    """
    fraction: cython.double
    fewest: cython.longlong = 1 << 60
    down: cython.double
    up: cython.double
    j: cython.longlong
    k: cython.int
    for k in range(columns.shape[0]):
        j = columns[k]
        fraction = x[j] - floor(x[j])
        fewest = min(fewest, count[0, j], count[1, j])
        down = total[0, j] / count[0, j] if count[0, j] > 0 else mean_down
        up = total[1, j] / count[1, j] if count[1, j] > 0 else mean_up
        result[k] = max(down * fraction, least) * max(up * (1.0 - fraction), least)
    return fewest


def outside(x, whole, lower, upper, fixed, room):
    """Say whether the value of a whole column is out of its bounds.

    Parameters
    ----------
    fixed, room : how far a value may be out, where both bounds are the same, and elsewhere
    """
    j: cython.int
    for j in range(x.shape[0]):
        if whole[j] and max(lower[j] - x[j], x[j] - upper[j]) > (fixed if lower[j] == upper[j] else room):
            return True
    return False


def mix(chosen, lower, upper, other_lower, other_upper, own_lower, own_upper):
    """Set bounds: of chosen columns the first ones, of the rest the others.

    Parameters
    ----------
    chosen : bool array, shape (n,)
    lower, upper, other_lower, other_upper : float arrays, shape (n,)
    own_lower, own_upper : float arrays, shape (n,); results
    """
    j: cython.int
    for j in range(lower.shape[0]):
        own_lower[j] = lower[j] if chosen[j] else other_lower[j]
        own_upper[j] = upper[j] if chosen[j] else other_upper[j]


def differences(lower, upper, other_lower, other_upper, found):
    """List the columns whose bounds differ; return how many there are.

    Parameters
    ----------
    lower, upper, other_lower, other_upper : float arrays, shape (n,)
    found : int32 array, shape (n,); gets their numbers
    """
    j: cython.int
    count: cython.int = 0
    for j in range(lower.shape[0]):
        found[count] = j  # kept if it differs; without a branch
        count += (lower[j] != other_lower[j]) | (upper[j] != other_upper[j])
    return count

# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Dense blocks that lie in long arrays, column after column: products and factors, by BLAS and LAPACK.

A block is given by its array, the place of its first entry, and its lead: how far apart its columns begin.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.scipy.linalg.cython_blas import dgemm, dtrsm
    from cython.cimports.scipy.linalg.cython_lapack import dpotrf


def factorise(array, place, rows, width):
    """Replace a block, whose upper rows are the lower half of a symmetric matrix, by its Cholesky factor.

    The rows below become what the factor has there. Return whether the matrix was positive definite.
    """
    if not cython.compiled:
        return _factorise(array, place, rows, width)
    lower: cython.char = 76  # "L"
    right: cython.char = 82  # "R"
    turned: cython.char = 84  # "T"
    general: cython.char = 78  # "N"
    one: cython.double = 1.0
    state: cython.int = 0
    rest: cython.int = rows - width
    dpotrf(cython.address(lower), cython.address(width), cython.address(array[place]), cython.address(rows),
           cython.address(state))  # fmt: skip
    if state == 0 and rest > 0:
        dtrsm(cython.address(right), cython.address(lower), cython.address(turned), cython.address(general),
              cython.address(rest), cython.address(width), cython.address(one), cython.address(array[place]),
              cython.address(rows), cython.address(array[place + width]), cython.address(rows))  # fmt: skip
    return state == 0


def subtract(array, first, lead, rows, columns, width, into, place, into_lead, keep):
    """Subtract ``A B'`` from a block of ``rows`` by ``columns``, or set it to ``-A B'`` where nothing is to be kept.

    ``A`` has ``width`` columns and begins at ``first``; ``B`` is its upper part.
    """
    if not cython.compiled:
        _subtract(array, first, lead, rows, columns, width, into, place, into_lead, keep)
        return
    general: cython.char = 78  # "N"
    turned: cython.char = 84  # "T"
    minus: cython.double = -1.0
    part: cython.double = 1.0 if keep else 0.0
    dgemm(cython.address(general), cython.address(turned), cython.address(rows), cython.address(columns),
          cython.address(width), cython.address(minus), cython.address(array[first]), cython.address(lead),
          cython.address(array[first]), cython.address(lead), cython.address(part),
          cython.address(into[place]), cython.address(into_lead))  # fmt: skip


def _factorise(array, place, rows, width):
    """Do what `factorise` does, in plain Python."""
    from scipy.linalg import solve_triangular

    block = _block(array, place, rows, width, rows)
    try:
        block[:width] = np.linalg.cholesky(np.tril(block[:width]) + np.tril(block[:width], -1).T)
    except np.linalg.LinAlgError:
        return False
    block[width:] = solve_triangular(block[:width], block[width:].T, lower=True).T
    return True


def _subtract(array, first, lead, rows, columns, width, into, place, into_lead, keep):
    """Do what `subtract` does, in plain Python."""
    target = _block(into, place, rows, columns, into_lead)
    if not keep:
        target[:] = 0.0
    target -= _block(array, first, rows, width, lead) @ _block(array, first, columns, width, lead).T


def _block(array, place, rows, columns, lead):
    """Return a block as a view."""
    whole = np.asarray(array)
    size = whole.itemsize
    return np.lib.stride_tricks.as_strided(whole[place:], (rows, columns), (size, size * lead))

"""The first-order method: matrix-vector products instead of factors, for very large linear problems."""

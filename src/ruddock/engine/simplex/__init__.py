"""The simplex method: kernels, and the solver that steers them."""

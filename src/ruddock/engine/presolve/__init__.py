"""Presolve: reductions that make a linear problem smaller, each with its inverse beside it."""

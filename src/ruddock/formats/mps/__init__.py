"""MPS files, fixed and free form, read and written."""

"""Branch and bound for integer and semicontinuous columns."""

"""Plans that are one another's mirror images: identical parts put in order, and orbits of columns at the nodes."""

"""What a plan says: the verdict, what to do, what limits it, and what to ask next."""

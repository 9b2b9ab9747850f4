"""What a model or a plan tells on a closer look."""

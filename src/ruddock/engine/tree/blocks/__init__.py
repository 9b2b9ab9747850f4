"""Problems of blocks that a few rows link: bounds and plans by the solutions of their blocks."""

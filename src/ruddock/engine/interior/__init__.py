"""The interior-point method, and the crossover from its answer to a basis."""

"""Ratios of Ruddock's times to references on the same machine in the same run: ``python -m benchmarks``."""

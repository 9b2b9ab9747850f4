"""Cutting planes: rows that every whole plan keeps and the relaxation breaks."""

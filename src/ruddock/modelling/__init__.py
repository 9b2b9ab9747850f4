"""Formulations in terms of names: axes, data, expressions, models and plans."""

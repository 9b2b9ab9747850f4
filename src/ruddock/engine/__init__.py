"""The engine: `Problem` in, `Outcome` out. It knows no names, no pandas and no printing."""

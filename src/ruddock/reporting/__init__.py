"""Plans and findings as documents for people."""

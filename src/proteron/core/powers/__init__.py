"""Powers that even out a spread: exponents by likelihood, and the transforms they belong to."""

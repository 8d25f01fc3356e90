"""Histogram gradient boosting of our own: bins, trees, losses, and what they come to."""

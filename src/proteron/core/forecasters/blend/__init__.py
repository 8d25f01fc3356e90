"""Blends: weighted sums of contenders, and how their weights are found."""

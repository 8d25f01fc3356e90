"""What was not to be expected in one series: exact tests, a robust regression, evidence of points, blocks, steps."""

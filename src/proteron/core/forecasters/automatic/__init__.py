"""The automatic forecaster: candidates that suit a series, weighed by how each did on parts it had not seen."""

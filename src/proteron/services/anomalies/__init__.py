"""Anomalies: scans begun, read within a budget and as of a moment, judged, drilled, and used."""

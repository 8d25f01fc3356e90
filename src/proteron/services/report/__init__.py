"""An experiment on one page that needs nothing else: to read, to print, to show to a colleague."""

from proteron.services.report.content import Example, Provenance, ReportContent, report_content
from proteron.services.report.page import report_page

__all__ = ["Example", "Provenance", "ReportContent", "report_content", "report_page"]

"""CSV as RFC 4180 has it, with NULL beside the empty text."""

from gravel.sources.csv.reader import CsvSource

__all__ = ["CsvSource"]

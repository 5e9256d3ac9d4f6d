"""CSV as RFC 4180 has it, with NULL beside the empty text."""

from gravel.tables.csv.reader import CsvTable

__all__ = ["CsvTable"]

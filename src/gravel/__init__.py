"""Gravel profiles and cleans the values in relational tables with SQL expressions, and proves the
row counts.

This module holds nothing but the version, so that asking for it costs no import.
"""

__version__ = "0.1.0"

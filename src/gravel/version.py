"""The version, by itself, so that asking for it costs no import."""

__version__ = "0.1.0"

"""The catalogue of functions: one file a family, one entry a function."""

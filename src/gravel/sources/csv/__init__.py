"""CSV as RFC 4180 has it, with NULL beside the empty text."""

"""Tables of databases, read and written."""

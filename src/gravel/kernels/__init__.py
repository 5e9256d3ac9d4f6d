"""What is done with the bytes of whole columns: rules for one text in plain Python, and the same
compiled (`native`)."""

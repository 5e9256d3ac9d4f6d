"""Duplicates: groups of rows that are one thing written more than once, exactly, in looser and
looser spellings, and nearly."""

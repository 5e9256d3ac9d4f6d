"""Writing rows: text files, JSON Lines, Arrow and Parquet, each whole or not at all."""

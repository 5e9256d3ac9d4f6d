"""What proves a run: fingerprints of rows, checksums of files."""

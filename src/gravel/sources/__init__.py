"""Where rows live: every reader and writer has the same face, `tables.table.Table`."""

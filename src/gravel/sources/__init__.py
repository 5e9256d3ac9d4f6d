"""Where rows come from: every reader is a `Source`."""

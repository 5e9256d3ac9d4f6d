"""Standard queries over any tables: relations in memory, one clause after another, each with its
account of rows."""

"""Plans: the plan file, its run, the row ledger, the proofs."""

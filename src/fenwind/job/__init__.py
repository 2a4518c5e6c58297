"""The job file, its ledger, and the derivation of everything that follows from it."""

"""The maintenance record: entries, chain, proofs, seals, and looking something up."""

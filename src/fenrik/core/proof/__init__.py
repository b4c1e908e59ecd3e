"""Proof: the posted motion against stock, part, holder and machine; findings."""

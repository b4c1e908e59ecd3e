"""What several strategies share: ways between cuts, rings and runs, room for entries, leads of corrected
walls."""

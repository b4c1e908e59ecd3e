"""Features of a part that name their machining: holes, and what a hole of a size is usually for."""

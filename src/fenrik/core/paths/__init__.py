"""The toolpath: moves as columns, built by strategies, with arcs, leads and links."""

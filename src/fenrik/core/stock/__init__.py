"""In-process stock: a height map for planning, interval dexels in three directions for proof."""

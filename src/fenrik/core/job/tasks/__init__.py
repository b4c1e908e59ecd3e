"""Operations resolved: a `Task` has nothing left open, and its inputs are all that a strategy may know.

Picks of the document become regions, walls, edges, holes and lines here.
"""

"""Where the tolerance goes: one budget, shared out once.

An operation's chord tolerance is what the posted path may deviate from the exact tool path on the
design surface. It is spent on the facets of the mesh and on the chords of the path.
"""

MESH_SHARE = 0.35
"""Share of the chord tolerance that the facets of the part's mesh may use up."""

PATH_SHARE = 0.55
"""Share that the straight moves between computed points may use up; the rest is reserve."""

COINCIDENT_MM = 1e-6
"""Two points nearer than this are one."""

CONTACT_MM = 0.002
"""Overlap of shank, holder or rapid with stock below this is contact of surfaces, not collision."""
PECK_CLEARANCE = 0.5
"""mm before the last depth at which a peck goes over from rapid to feed, and by which a chip is broken: what
the controller's canned cycles are set to."""
FOLLOW_SHARE = 0.15
"""Share that a control's own way between two blocks on which joints turn may use up."""
FOLLOW_RAPID_MM = 0.5
"""How far the tool may depart from its planned way at rapid there; the proof looks at where it is driven."""
BENDING_SHARE = 0.5
"""Share of an operation's allowance, or of the band of "on size" where that is more, by which a tool may bend
in proposals, and from which the proof cautions (common practice, no source)."""

"""Machines as URDF, the description of robots that many programs read (Unified Robot Description Format,
version 1.0): links, joints, limits, and the bodies as shapes to see and to collide with. Lengths there are
metres, angles radians.

A joint's link has its frame on the joint's point with the machine's directions. Two further links, fixed,
are the mounts. What URDF has no words for (word addresses, accelerations, brakes, the spindle) stands in
elements of a namespace of its own, which others pass over.
"""

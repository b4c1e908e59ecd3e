"""The job's rules and computation. Knows no web, no database and no queue.

Lengths are millimetres, angles radians, times seconds, unless a name says otherwise
(`feed_mm_min`, `spindle_rpm`, `turn_deg`).
"""

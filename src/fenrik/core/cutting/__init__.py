"""Cutter location: where a cutter touches the part without cutting into it.

All kernels work in the setup frame: Z is the tool axis, a position is the cutter's tip.
"""

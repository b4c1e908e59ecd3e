"""Motion of a tool as tables of moves: the path of an operation, the moves of a program, and what is done
with both.

`moves` is the table itself, `toolpath` and `program_motion` are that table with marks, `builder` makes paths.
Which joints of a machine move along is not here but in `machines`.
"""

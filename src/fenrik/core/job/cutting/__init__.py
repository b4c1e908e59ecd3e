"""The stock cut with the motion of a program: step by step, kept, replayed, and carried to the next setup."""

"""Programs of arms: their moves, how they are written, what a control of the cell makes of the text, and the
comparison of both. Programs of mills are in the packages beside this one."""

"""Tools as assemblies (cutter, shank, holder, stick-out) and the data to run them."""

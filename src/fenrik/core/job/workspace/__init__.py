"""What a job stands on: the store of results, the files that the document names, the part as it was read.

Setups, tools and operations are not known here.
"""

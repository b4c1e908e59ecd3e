"""The job document: its models, how it is read and written, and the bounds on what it may hold.

Nothing here opens a file that the document names, and nothing is computed.
"""

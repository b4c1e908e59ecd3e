"""How the part is clamped: frame, stock and fixture of a setup, and what each of its sides sees.

The stock that an earlier setup leaves comes through the port `EarlierStock`.
"""

"""Benchmarks, each with its baseline in the same run, printed as a ratio. Run: make bench"""

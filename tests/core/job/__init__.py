"""The rooms of a job, each by itself: no path is computed and nothing is cut where it need not be."""

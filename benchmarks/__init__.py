"""Our calls against what an analyst would write by hand, on the same data, in the same run."""

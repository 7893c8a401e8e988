"""Labels for caps: what stands on them, how it is made to fit, and how they lie on a sheet of paper.  Pure."""

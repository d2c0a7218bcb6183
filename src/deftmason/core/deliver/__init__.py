"""What leaves the job: files in open formats and the parametric script."""

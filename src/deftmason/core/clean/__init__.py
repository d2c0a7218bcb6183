"""From what the scanner gave to a mesh worth working on: defects, holes, background, noise, smoothing, remeshing."""

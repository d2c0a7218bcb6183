"""The B-rep kernel: the only folder that imports OCP. Bodies, features, triangles, surfaces, files."""

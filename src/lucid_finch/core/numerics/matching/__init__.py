"""Kernels that compare a template with an image: correlation maps, a search over poses, alignment to a fraction of a pixel."""

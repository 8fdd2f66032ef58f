"""Binary images: thresholds, components, outlines, shapes."""

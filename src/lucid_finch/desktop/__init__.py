"""The desktop application: the bench where images, evidence, settings and findings are looked at together."""

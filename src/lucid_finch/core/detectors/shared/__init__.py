"""What several detectors rest on."""

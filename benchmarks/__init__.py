"""Speed and accuracy of the kernels, as ratios; run one with `python -m benchmarks.NAME`."""

"""What every kernel needs: the compiler, its cache, threads."""

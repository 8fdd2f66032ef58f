"""Running recipes: the plan, the one executor, its cache, merging of findings, and warming up."""

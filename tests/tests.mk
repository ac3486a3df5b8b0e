# The tests: what they are built of, and how they run.
check-built: all
	@true

# Nothing to keep yet.

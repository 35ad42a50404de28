"""Solutions → one lock; one lock → what a given machine needs."""

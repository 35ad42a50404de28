"""Many inventories → what differs, where, and how much it breaks."""

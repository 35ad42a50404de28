"""States that can be compared, and inventories of machines."""

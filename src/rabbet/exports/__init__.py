"""A lock for other places: a folder to carry, lists, bills, containers, editors; knows no project."""

"""The files of wheels, environments and indexes: text ⇄ model."""

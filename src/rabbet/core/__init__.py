"""Pure computation: no file, process, network, clock or terminal."""

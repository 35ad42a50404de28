"""The search for the change that makes a command fail, with an oracle passed in."""

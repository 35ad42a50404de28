"""Text ⇄ model, one format a module; no file is opened here."""

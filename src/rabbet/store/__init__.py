"""The machine's store of fetched and unpacked files, each once, for all projects."""

"""Where releases are listed and fetched: indexes over HTTP, folders of wheels."""

def frame(payload):
    """A message as it goes over the wire: its length, then its bytes."""
    return len(payload).to_bytes(2, "big") + payload

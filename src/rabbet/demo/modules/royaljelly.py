def ready():
    """Whether everything is there."""
    import foragemap
    import honeyflow
    import queenmark

    return all((foragemap, honeyflow, queenmark))

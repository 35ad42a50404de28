def remembered(function):
    """Call a function once for each argument."""
    known = {}

    def wrapper(argument):
        if argument not in known:
            known[argument] = function(argument)
        return known[argument]

    return wrapper

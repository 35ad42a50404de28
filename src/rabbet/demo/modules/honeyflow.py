def daily_gain(weights):
    """The gain from one day to the next, in the unit of the weights."""
    return [after - before for before, after in zip(weights, weights[1:])]

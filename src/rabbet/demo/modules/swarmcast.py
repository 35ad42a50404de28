def risk(weight_loss):
    """The risk of a swarm, from 0 to 1, by the loss of weight in kilograms."""
    return min(1.0, max(0.0, weight_loss / 3))

import broodcount


def check(cells):
    """Whether a comb needs a closer look."""
    return broodcount.count(cells) < len(cells) / 2


def main():
    """Report on a sample comb."""
    comb = ["brood", "honey", "brood", "pollen", "brood"]
    print("mitewatch:", "look closer" if check(comb) else "the comb is fine")

class Frame:
    """A small table: named columns of equal length."""

    def __init__(self, **columns):
        self.columns = columns

    def __getitem__(self, name):
        return self.columns[name]

    def mean(self, name):
        """The mean of one column."""
        values = self.columns[name]
        return sum(values) / len(values)

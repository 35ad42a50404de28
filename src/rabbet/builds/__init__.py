"""A source tree → a wheel, in an environment that is composed for its build; knows no project."""

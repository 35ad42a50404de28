"""The problem to solve: candidates, requirements and the versions they rule out."""

"""The order of columns in which machines that are alike stand side by side.

Hierarchical clustering by average linkage, with the leaves in the optimal order of Bar-Joseph, Gifford and
Jaakkola (2001). Two groups are as far apart as the number of libraries in which they differ.
"""

from rabbet.core.census.matrix import Matrix

__all__ = ["order_by_likeness"]

_MOST = 400  # groups whose leaves are put into the optimal order, which takes time with the cube of that


def order_by_likeness(matrix: Matrix) -> list[int]:
    """The numbers of the groups in that order; the first group stays first. Raises `ModuleNotFoundError`."""
    from scipy.cluster.hierarchy import leaves_list, linkage
    from scipy.spatial.distance import pdist

    count = len(matrix.groups)
    if count < 3 or not matrix.rows:
        return list(range(count))
    codes: dict[object, int] = {}
    vectors = [
        [codes.setdefault(group.state.trouble or _what(row.cells[number]), len(codes)) for row in matrix.rows]
        for number, group in enumerate(matrix.groups)
    ]
    tree = linkage(pdist(vectors, "hamming"), "average", optimal_ordering=count <= _MOST)
    order = [int(leaf) for leaf in leaves_list(tree)]
    if order.index(0) >= count / 2:
        order.reverse()  # the tree has no left and right of its own
    order.remove(0)
    return [0, *order]


def _what(finding: object) -> object:
    """What makes two cells the same."""
    if finding is None:
        return None
    return tuple(str(getattr(finding, name)) for name in ("kind", "installed", "weight"))

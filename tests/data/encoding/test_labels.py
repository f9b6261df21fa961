import numpy as np
import pytest
from hypothesis import given, strategies as st
from hypothesis.extra import numpy as hnp

from vinestep.data import class_numbers_of, one_hot
from vinestep.errors import DataError


@given(
    st.integers(1, 9).flatmap(
        lambda k: st.tuples(
            st.just(k), hnp.arrays(np.int64, hnp.array_shapes(), elements=st.integers(0, k - 1))
        )
    )
)
def test_one_hot_and_back(case):
    classes, labels = case
    vectors = one_hot(labels, classes, on=0.9, off=-0.1)
    assert vectors.shape == (*labels.shape, classes)
    assert np.isin(vectors, np.float32([0.9, -0.1])).all()
    np.testing.assert_array_equal(class_numbers_of(vectors), labels)
    np.testing.assert_array_equal(
        np.eye(classes, dtype=np.float32)[labels], one_hot(labels, classes)
    )


@pytest.mark.parametrize(
    ("labels", "message"),
    [
        ([0, 3], r"label 3 at \(1,\)"),
        ([[0], [-1]], r"label -1 at \(1, 0\)"),
        ([0.5], "class numbers, got float64"),
    ],
)
def test_what_is_no_class_number_is_refused(labels, message):
    with pytest.raises(DataError, match=message):
        one_hot(labels, 3)


def test_vectors_without_a_greatest_value_are_refused():
    with pytest.raises(DataError, match=r"the vector at \(1,\) holds NaN"):
        class_numbers_of([[0, 1], [np.nan, 1]])

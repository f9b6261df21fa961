from ._generate import Generated as Generated, Piece as Piece, stream as stream
from ._sampling import shaped as shaped
from ._text_scores import TextScores as TextScores

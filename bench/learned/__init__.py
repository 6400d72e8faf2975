"""Where ersatz/core/survey/learned.npz comes from.

    python -m bench.learned.pieces --real DIR --truth FILE --out PIECES      ducked pieces, folded as the survey folds them
    python -m bench.learned.train PIECES --out ersatz/core/survey/learned.npz

The second needs PyTorch, which nothing else does and which isn't installed with the rest. Of the real music only what
bench/material doesn't hold back is used, and nothing of its generated pieces' combinations, the test set's tracks or the demo
references: figures on those are figures on music that the networks haven't seen.
"""

"""Two targets at once, some of them missing: a class and a number of each cask, with a score that
was chosen by nothing, intervals that hold, and what mattered.
"""

import sys

import vinestep as vs

N, EPOCHS, FOLDS = (int(word) for word in (*sys.argv[1:], *("900", "40", "5")[len(sys.argv) - 1 :]))
TARGETS = {"state": vs.tasks.Classes(gaps=True), "alcohol": vs.tasks.Numbers(gaps=True)}

casks = vs.demo.casks(N)
gaps = casks[["state", "alcohol"]].isna().mean()
print(f"{N} casks; of the states {gaps['state']:.0%} are missing, of the alcohols", end=" ")
print(f"{gaps['alcohol']:.0%}")


def table_of(rows):
    return vs.data.Table(rows, targets=list(TARGETS), target_gaps=True, weight="tasters")


def fit(rows, seed, **options):
    """Train on rows, of which a part says when to stop; `cross_validate` calls it, too."""
    table = table_of(rows)
    train, validation = vs.data.scaled(*table.split(0.85, 0.15, seed=seed))
    network = vs.Heads(
        vs.Stack(vs.Dense(48, vs.relu), vs.Dense(24, vs.relu)),
        {"state": vs.Dense(len(table.class_values["state"])), "alcohol": vs.Dense(1)},
    )
    training = vs.Training(
        network,
        task=vs.tasks.Several(TARGETS, {"alcohol": 0.5}),
        optimiser=vs.optimisers.Adam(3e-3),
        seed=seed,
    )
    training.run(
        train.batches(32),
        validation=validation.batches(256),
        epochs=EPOCHS,
        observers=[vs.observers.Patience(8)],
        **options,
    )
    return training


folds = vs.training.cross_validate(fit, casks, folds=FOLDS, seed=2)
print(folds.summary().round(3).to_string(index=False))

known, unseen = casks.iloc[: int(0.7 * N)], casks.iloc[int(0.7 * N) :].reset_index(drop=True)
half = len(unseen) // 2
model = fit(known, seed=2).model().with_coverage(unseen.iloc[:half], coverage=0.8)
rest = unseen.iloc[half:].reset_index(drop=True)
answers = model.predict(rest)
inside = rest["alcohol"].between(answers["alcohol low"], answers["alcohol high"])
print(f"intervals hold the alcohol of {inside[rest['alcohol'].notna()].mean():.0%} of casks")
print(answers.filter(regex="predicted|low|high").head(3).to_string())

found = vs.attribution.overview(model, rest)
print(found.tables["importances"].round(3).to_string(index=False))
print("written:", ", ".join(path.name for path in found.save("casks")))

"""Makes a table of customers, and measures general-purpose libraries on it beside Pronoia.

    python bench/learning.py make TABLE.csv ROWS
    python bench/learning.py compare TABLE.csv OURS.json

Numbers with gaps, categories, effects that bend and that act together. Two threads for everybody.
"""

import json
import os
import resource
import sys
import time

os.environ.update(OMP_NUM_THREADS="2", OPENBLAS_NUM_THREADS="2")
import numpy as np

NUMBERS, LEVELS = 20, [3, 4, 5, 6, 8, 10, 12, 15, 18, 20]
FOREST_ROWS = 100_000


def columns(rows):
    rng = np.random.default_rng(7)
    x = rng.normal(size=(rows, NUMBERS)).astype(np.float64)
    c = np.column_stack([rng.integers(0, n, rows) for n in LEVELS])
    effect = [rng.normal(0, 0.35, n) for n in LEVELS]
    eta = -2.2 + 0.7 * x[:, 0] - 0.5 * x[:, 1] + 0.4 * x[:, 2] ** 2 - 0.4 + 0.5 * x[:, 3] * (x[:, 4] > 0)
    eta += sum(effect[j][c[:, j]] for j in (0, 2, 4, 6, 8)) + 0.6 * (c[:, 1] == 2) * (x[:, 5] > 0.5)
    y = rng.random(rows) < 1 / (1 + np.exp(-eta))
    x = np.round(x, 4)
    for j in range(5):
        x[rng.random(rows) < 0.03, j] = np.nan
    return x, c, y


def make(path, rows):
    import pyarrow as pa
    import pyarrow.csv

    x, c, y = columns(rows)
    names = [f"n{j}" for j in range(NUMBERS)] + [f"c{j}" for j in range(len(LEVELS))] + ["left"]
    arrays = [pa.array(x[:, j], from_pandas=True) for j in range(NUMBERS)]
    arrays += [pa.array(np.char.add("v", c[:, j].astype(str))) for j in range(len(LEVELS))]
    arrays.append(pa.array(np.where(y, "yes", "no")))
    pyarrow.csv.write_csv(pa.table(arrays, names), path)


def timed(work):
    begun = time.perf_counter()
    result = work()
    return time.perf_counter() - begun, result


def compare(path, ours):
    import lightgbm
    import pyarrow
    import pyarrow.csv
    from sklearn.ensemble import RandomForestClassifier
    from sklearn.linear_model import LogisticRegression
    from sklearn.metrics import log_loss, roc_auc_score

    pyarrow.set_cpu_count(2)
    with open(ours) as file:
        ours = json.load(file)
    theirs = {}
    theirs["read CSV"] = timed(lambda: pyarrow.csv.read_csv(path))[0], None
    x, c, y = columns(ours["rows"])
    held = np.arange(len(y)) % 5 == 4
    fitted = ~held
    both = np.column_stack([x, c])
    data = lightgbm.Dataset(
        both[fitted], y[fitted], categorical_feature=list(range(NUMBERS, both.shape[1])), params={"verbose": -1}
    )
    settings = {"objective": "binary", "num_leaves": 31, "learning_rate": 0.1, "num_threads": 2, "verbose": -1}
    seconds, booster = timed(lambda: lightgbm.train(settings, data, 200))
    area = roc_auc_score(y[held], booster.predict(both[held], num_threads=2))
    theirs["boosted trees, fit"] = seconds, area
    theirs["boosted trees, score all"] = timed(lambda: booster.predict(both, num_threads=2))[0], area
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    part = np.flatnonzero(fitted)[:200_000]
    data = lightgbm.Dataset(
        both[part], y[part], categorical_feature=list(range(NUMBERS, both.shape[1])), params={"verbose": -1}
    )
    explained = lightgbm.train(settings, data, 200)
    some = both[held][:10_000]
    seconds = timed(lambda: explained.predict(some, pred_contrib=True, num_threads=2))[0]
    theirs["exact reasons, 10 000 customers"] = seconds, None

    filled = np.where(np.isnan(x), np.nanmedian(x[fitted], axis=0), x)
    filled = (filled - filled[fitted].mean(axis=0)) / filled[fitted].std(axis=0)
    indicators = [c[:, j : j + 1] == np.arange(1, n) for j, n in enumerate(LEVELS)]
    wide = np.hstack([filled, np.isnan(x[:, :5]), *indicators]).astype(np.float64)
    logistic = LogisticRegression(C=np.inf, solver="lbfgs", max_iter=1000, tol=1e-5)
    seconds, _ = timed(lambda: logistic.fit(wide[fitted], y[fitted]))
    theirs["logistic regression"] = seconds, log_loss(y[held], logistic.predict_proba(wide[held])[:, 1])

    part = np.flatnonzero(fitted)[:FOREST_ROWS]
    known = np.nan_to_num(both, nan=-9)
    forest = RandomForestClassifier(200, n_jobs=2, random_state=1)
    seconds, _ = timed(lambda: forest.fit(known[part], y[part]))
    theirs["random forest, 100 000 rows"] = seconds, roc_auc_score(y[held], forest.predict_proba(known[held])[:, 1])

    aims = {
        "read CSV": 1.5,
        "boosted trees, fit": 1.0,
        "boosted trees, score all": 0.25,
        "exact reasons, 10 000 customers": 0.5,
        "logistic regression": 0.5,
        "random forest, 100 000 rows": 0.5,
    }
    print(f"{'':32}{'ours, s':>9}{'theirs, s':>11}{'ratio':>8}{'aim':>7}{'ours':>10}{'theirs':>10}")
    for name, (seconds, figure) in theirs.items():
        mine, told = ours["work"][name]
        figures = f"{told:10.5f}{figure:10.5f}" if figure is not None else ""
        print(f"{name:32}{mine:9.2f}{seconds:11.2f}{mine / seconds:8.2f}{aims[name]:7.2f}{figures}")
    print(f"{'memory of the boosted fit, MB':32}{ours['memory']:9.0f}{memory:11.0f}{ours['memory'] / memory:8.2f}{1:7.2f}")


if __name__ == "__main__":
    {"make": lambda: make(sys.argv[2], int(sys.argv[3])), "compare": lambda: compare(*sys.argv[2:4])}[sys.argv[1]]()

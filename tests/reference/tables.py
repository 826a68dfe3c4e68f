"""Tables of different shape, and how well general-purpose Python libraries tell them, with their defaults.

Writes tables/*.parquet and tables.json beside this file. Needs numpy, pyarrow, scikit-learn, lightgbm
and statsmodels; two of the tables are real ones that come with those packages, the others are made up
here. In each the column "part" says which rows are fitted to and which are held, and "event" what
happened; areas are those under ROC on the rows held.
"""

import json
import os
import warnings

import lightgbm
import numpy as np
import pandas as pd
import pyarrow
import pyarrow.parquet
import statsmodels.api as sm
from sklearn.compose import ColumnTransformer
from sklearn.datasets import load_breast_cancer
from sklearn.ensemble import HistGradientBoostingClassifier, RandomForestClassifier
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.metrics import roc_auc_score
from sklearn.naive_bayes import GaussianNB
from sklearn.neighbors import KNeighborsClassifier
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler
from sklearn.svm import LinearSVC
from sklearn.tree import DecisionTreeClassifier

HERE = os.path.dirname(os.path.abspath(__file__))
warnings.filterwarnings("ignore")


def drawn(rng, log_odds):
    return np.where(rng.random(len(log_odds)) < 1 / (1 + np.exp(-log_odds)), "yes", "no")


def split(frame, fitted):
    frame.insert(0, "part", np.where(np.arange(len(frame)) < fitted, "fitted", "held"))
    return frame


def numbers(rng, rows, columns):
    return {f"x{i}": np.round(rng.normal(size=rows), 2) for i in range(columns)}


def tumours(rng):
    data = load_breast_cancer(as_frame=True)
    order = rng.permutation(len(data.data))
    frame = data.data.iloc[order].reset_index(drop=True)
    frame["event"] = np.where(data.target.iloc[order].to_numpy() == 0, "yes", "no")
    return split(frame, 300)


def affairs(rng):
    data = sm.datasets.fair.load_pandas().data
    order = rng.permutation(len(data))
    frame = data.iloc[order].reset_index(drop=True)
    frame["event"] = np.where(frame.pop("affairs") > 0, "yes", "no")
    return split(frame, 3_000)


def wide(rng):
    frame = pd.DataFrame(numbers(rng, 4_500, 80))
    eta = sum(frame[f"x{i}"] * w for i, w in enumerate([0.9, -0.8, 0.7, -0.6, 0.5, 0.4]))
    frame["event"] = drawn(rng, eta.to_numpy() - 0.5)
    return split(frame, 500)


def rare(rng):
    frame = pd.DataFrame(numbers(rng, 40_000, 8))
    frame["plan"] = rng.choice(["a", "b", "c", "d"], 40_000)
    bump = frame["plan"].map({"a": 0, "b": 0.4, "c": -0.5, "d": 1.0})
    eta = 0.7 * frame.x0 - 0.5 * frame.x1 + 0.4 * frame.x2**2 + bump - 5.9
    frame["event"] = drawn(rng, eta.to_numpy())
    return split(frame, 20_000)


def categories(rng):
    rows, columns = 16_000, {}
    eta = np.zeros(rows) - 1.2
    for i, levels in enumerate([3, 5, 8, 12, 20, 40, 80, 150]):
        codes = rng.integers(0, levels, rows)
        eta += rng.normal(scale=0.45, size=levels)[codes]
        columns[f"c{i}"] = np.array([f"v{code}" for code in codes])
    frame = pd.DataFrame(columns | numbers(rng, rows, 2))
    frame["event"] = drawn(rng, eta + 0.4 * frame.x0.to_numpy())
    return split(frame, 8_000)


def gaps(rng):
    rows = 14_000
    columns = numbers(rng, rows, 12)
    eta = np.zeros(rows) - 1
    for i in range(12):
        values = columns[f"x{i}"]
        eta += values * [0.6, -0.5, 0.4, 0, 0, 0.3, 0, 0, 0.2, 0, 0, 0][i]
        chance = 0.4 if i % 2 else 0.55 / (1 + np.exp(-values))
        gone = rng.random(rows) < chance
        if i in (3, 4):
            eta += 0.8 * gone
        columns[f"x{i}"] = np.where(gone, np.nan, values)
    frame = pd.DataFrame(columns)
    frame["event"] = drawn(rng, eta)
    return split(frame, 6_000)


def interactions(rng):
    rows = 16_000
    frame = pd.DataFrame(numbers(rng, rows, 8))
    frame["tier"] = rng.choice(["low", "mid", "high"], rows)
    high = (frame.tier == "high").to_numpy()
    eta = 1.6 * np.sign(frame.x0 * frame.x1) + np.where(high, 1, -0.6) * frame.x2 + 0.8 * (frame.x3 > 0.5) * frame.x4
    frame["event"] = drawn(rng, eta.to_numpy() - 0.8)
    return split(frame, 8_000)


def linear(rng):
    frame = pd.DataFrame(numbers(rng, 12_000, 12))
    weights = [0.8, -0.7, 0.6, -0.5, 0.4, -0.3, 0.2, -0.1, 0, 0, 0, 0]
    eta = sum(frame[f"x{i}"] * w for i, w in enumerate(weights))
    frame["event"] = drawn(rng, eta.to_numpy() - 1)
    return split(frame, 4_000)


def areas(frame):
    x = frame.drop(columns=["part", "event"])
    y = (frame["event"] == "yes").to_numpy()
    fitted = (frame["part"] == "fitted").to_numpy()
    words = [name for name in x if x[name].dtype == object or x[name].dtype.name in ("str", "string")]
    rest = [name for name in x if name not in words]
    scaled = make_pipeline(SimpleImputer(strategy="median", add_indicator=True), StandardScaler())
    indicators = OneHotEncoder(handle_unknown="ignore", sparse_output=False)

    def piped(model):
        return make_pipeline(ColumnTransformer([("n", scaled, rest), ("c", indicators, words)]), model)

    native = x.copy()
    for name in words:
        native[name] = native[name].astype("category")

    def area(model, x):
        model.fit(x[fitted], y[fitted])
        tell = model.decision_function if not hasattr(model, "predict_proba") else lambda x: model.predict_proba(x)[:, 1]
        return float(roc_auc_score(y[~fitted], tell(x[~fitted])))

    gradient = HistGradientBoostingClassifier(categorical_features="from_dtype", random_state=0)
    return {
        "logistic": area(piped(LogisticRegression()), x),
        "tree": area(piped(DecisionTreeClassifier(random_state=0)), x),
        "forest": area(piped(RandomForestClassifier(random_state=0)), x),
        "boosted": max(area(gradient, native), area(lightgbm.LGBMClassifier(verbose=-1), native)),
        "network": area(piped(MLPClassifier(random_state=0)), x),
        "bayes": area(piped(GaussianNB()), x),
        "neighbours": area(piped(KNeighborsClassifier()), x),
        "svm": area(piped(LinearSVC()), x),
    }


def main():
    os.makedirs(os.path.join(HERE, "tables"), exist_ok=True)
    found = {}
    for at, make in enumerate([tumours, affairs, wide, rare, categories, gaps, interactions, linear]):
        frame = make(np.random.default_rng(100 + at))
        table = pyarrow.Table.from_pandas(frame, preserve_index=False)
        pyarrow.parquet.write_table(table, os.path.join(HERE, "tables", f"{make.__name__}.parquet"), compression="zstd")
        found[make.__name__] = areas(frame)
        print(make.__name__, len(frame), {k: round(v, 4) for k, v in found[make.__name__].items()}, flush=True)
    with open(os.path.join(HERE, "tables.json"), "w") as file:
        json.dump(found, file, indent=1)
        file.write("\n")


main()

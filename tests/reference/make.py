"""Makes the reference figures that the tests compare with.

Run with statsmodels and scikit-learn installed; writes beside this file
`churn.csv`, a made-up table, and `figures.json`, what the libraries say of it.
"""

import json
import pathlib

import numpy as np
import statsmodels.api as sm
from scipy import optimize, stats
from sklearn import metrics
from sklearn.isotonic import IsotonicRegression
from sklearn.linear_model import LogisticRegression
from sklearn.naive_bayes import GaussianNB
from sklearn.tree import DecisionTreeClassifier
from statsmodels.stats.proportion import proportion_confint

here = pathlib.Path(__file__).parent
rng = np.random.default_rng(20)
n = 700

x = np.column_stack(
    [
        rng.normal(0, 1, n),
        rng.gamma(2.0, 1.5, n),
        rng.integers(0, 2, n).astype(float),
        rng.normal(3, 0.2, n),
    ]
)
eta = -2.2 + 0.9 * x[:, 0] + 0.35 * x[:, 1] - 0.6 * x[:, 2]
y = (rng.random(n) < 1 / (1 + np.exp(-eta))).astype(int)

names = ["calls", "months", "direct", "noise"]
with open(here / "churn.csv", "w") as out:
    out.write(",".join(names + ["left"]) + "\n")
    for row, label in zip(x, y):
        out.write(",".join(repr(float(v)) for v in row) + f",{'yes' if label else 'no'}\n")

plain = sm.Logit(y, sm.add_constant(x)).fit(method="newton", tol=1e-14, maxiter=100, disp=0)
ridge = LogisticRegression(C=1 / 3.0, solver="newton-cholesky", tol=1e-12, max_iter=500).fit(x, y)

# Scores with ties, and weights, for the measures.
score = np.round(1 / (1 + np.exp(-(eta + rng.normal(0, 0.7, n)))), 2)
weight = np.round(rng.uniform(0.2, 3.0, n), 3)
inside = np.clip(score, 0.01, 0.99)

# Association: groups of x[:, 1], and the number itself.
groups = np.digitize(x[:, 1], [1.5, 2.5, 4.0])
counts = np.array([[np.sum((groups == g) & (y == v)) for v in (1, 0)] for g in range(4)])
shares = counts / counts.sum(axis=0)
intervals = [proportion_confint(e, e + o, alpha=0.05, method="wilson") for e, o in counts.tolist()]
_, g_chance, _, _ = stats.chi2_contingency(counts, correction=False, lambda_="log-likelihood")



def penalised(loss, ridge, lasso):
    """Coefficients of least loss with these penalties, the intercept free: each is split into a
    positive and a negative part, which makes the objective smooth."""
    p = x.shape[1]

    def objective(b):
        coefficients = b[1 : p + 1] - b[p + 1 :]
        value, slope = loss(b[0] + x @ coefficients)
        pull = x.T @ slope + ridge * coefficients
        gradient = np.concatenate([[slope.sum()], pull + lasso, lasso - pull])
        return value + ridge / 2 * coefficients @ coefficients + lasso * b[1:].sum(), gradient

    bounds = [(None, None)] + [(0, None)] * (2 * p)
    b = np.zeros(2 * p + 1)
    for _ in range(20):
        b = optimize.minimize(
            objective, b, jac=True, bounds=bounds, method="L-BFGS-B", options={"ftol": 0, "gtol": 1e-11, "maxiter": 100000, "maxfun": 100000, "maxcor": 50}
        ).x
    return [float(b[0])] + (b[1 : p + 1] - b[p + 1 :]).tolist()


def log_loss(eta):
    return np.sum(np.logaddexp(0, eta) - y * eta), 1 / (1 + np.exp(-eta)) - y


def squared_hinge(eta):
    side = 2 * y - 1
    short = np.maximum(0, 1 - side * eta)
    return np.sum(short**2), -2 * side * short


normal = GaussianNB(var_smoothing=0).fit(x, y)
told = normal.predict_log_proba(x)
# Few enough values that a cut can be placed between any two.
rounded = np.round(x, 1)
tree = DecisionTreeClassifier(max_leaf_nodes=9, min_samples_leaf=20).fit(rounded, y)
isotonic = IsotonicRegression().fit(eta, y)


def placements():
    """Variance of the area under the ROC curve, and of the difference to that of the true score,
    straight from the definition of DeLong, DeLong and Clarke-Pearson (1988)."""
    of = []
    for s in (inside, eta):
        above = np.sign(s[y == 1][:, None] - s[y == 0][None, :]) / 2 + 0.5
        of.append((above.mean(axis=1), above.mean(axis=0)))
    error = lambda e, o: float(np.sqrt(e.var(ddof=1) / len(e) + o.var(ddof=1) / len(o)))
    return {
        "error": error(*of[0]),
        "difference": float(of[0][0].mean() - of[1][0].mean()),
        "difference_error": error(of[0][0] - of[1][0], of[0][1] - of[1][1]),
    }


acted = inside >= 0.3
figures = {
    "delong": placements(),
    "yeo_johnson": {name: float(stats.yeojohnson_normmax(x[:, i])) for i, name in enumerate(names) if name != "direct"},
    "association": {
        "events": counts[:, 0].tolist(),
        "rows": counts.sum(axis=1).tolist(),
        "mutual_information_bits": float(metrics.mutual_info_score(groups, y) / np.log(2)),
        "entropy_bits": float(stats.entropy(counts.sum(axis=0), base=2)),
        "information_value": float(np.sum((shares[:, 0] - shares[:, 1]) * np.log(shares[:, 0] / shares[:, 1]))),
        "correlation": float(stats.pearsonr(x[:, 1], y).statistic),
        "wilson": [list(map(float, pair)) for pair in intervals],
        "chance": float(g_chance),
    },
    "logistic": {
        "coefficients": plain.params.tolist(),
        "standard_errors": plain.bse.tolist(),
        "p_values": plain.pvalues.tolist(),
        "log_likelihood": float(plain.llf),
    },
    "ridge": {"penalty": 3.0, "intercept": float(ridge.intercept_[0]), "coefficients": ridge.coef_[0].tolist()},
    "lasso": {"penalty": 12.0, "coefficients": penalised(log_loss, 0.0, 12.0)},
    "elastic_net": {"ridge": 2.0, "lasso": 6.0, "coefficients": penalised(log_loss, 2.0, 6.0)},
    "svm": {"cost": 0.05, "coefficients": penalised(squared_hinge, 1 / 0.05, 0.0)},
    "bayes": {"log_odds": (told[:, 1] - told[:, 0]).tolist()},
    "tree": {"rows": rounded.tolist(), "rate": tree.predict_proba(rounded)[:, 1].tolist()},
    "isotonic": {"score": eta.tolist(), "rate": isotonic.predict(eta).tolist()},
    "measures": {
        "score": inside.tolist(),
        "weight": weight.tolist(),
        "area_under_roc": metrics.roc_auc_score(y, inside),
        "area_under_roc_weighted": metrics.roc_auc_score(y, inside, sample_weight=weight),
        "average_precision": metrics.average_precision_score(y, inside),
        "average_precision_weighted": metrics.average_precision_score(y, inside, sample_weight=weight),
        "log_loss": metrics.log_loss(y, inside),
        "log_loss_weighted": metrics.log_loss(y, inside, sample_weight=weight),
        "kolmogorov_smirnov": float(stats.ks_2samp(inside[y == 1], inside[y == 0]).statistic),
        "kolmogorov_smirnov_weighted": float(
            np.max(np.abs(np.subtract(*metrics.roc_curve(y, inside, sample_weight=weight, drop_intermediate=False)[:2])))
        ),
        "matthews_at_0.3": float(metrics.matthews_corrcoef(y, acted)),
        "f1_at_0.3": float(metrics.f1_score(y, acted)),
        "brier": metrics.brier_score_loss(y, inside),
        "brier_weighted": metrics.brier_score_loss(y, inside, sample_weight=weight),
    },
}
(here / "figures.json").write_text(json.dumps(figures, indent=1) + "\n")

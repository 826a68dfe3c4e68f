//! The terms of the field lead to the glossary, by whichever of their names somebody looks.

use crate::support::plain;
use crate::support::study::Study;

/// What analysts type.
const TYPED: [&str; 44] = [
    "permutation importance",
    "feature importance",
    "PSI",
    "AUC",
    "area under the curve",
    "control group",
    "holdout",
    "leakage",
    "uplift",
    "seed",
    "winsorise",
    "WoE",
    "weight of evidence",
    "information value",
    "partial dependence",
    "PDP",
    "SHAP",
    "Shapley",
    "calibration",
    "Brier",
    "log loss",
    "cross-entropy",
    "precision",
    "recall",
    "F1",
    "lift",
    "gain chart",
    "KS",
    "confusion matrix",
    "cut-off",
    "threshold",
    "cross-validation",
    "out-of-fold",
    "stacking",
    "hyperparameter",
    "SMOTE",
    "class weights",
    "target encoding",
    "imputation",
    "drift",
    "confidence interval",
    "bootstrap",
    "statistical power",
    "loss given default",
];

#[tokio::test(flavor = "multi_thread")]
async fn terms_of_the_field_are_found_with_their_meaning() {
    let study = Study::furnished().await;
    let glossary = study.http.get("/glossary").text;
    for typed in TYPED {
        let page = study.http.get(&format!("/find?q={}", typed.replace(' ', "+"))).text;
        let link = page.split("href=\"/glossary#").nth(1).and_then(|rest| rest.split('"').next());
        let anchor = link.unwrap_or_else(|| panic!("{typed} leads nowhere: {}", plain(&page)));
        assert!(glossary.contains(&format!("id=\"{anchor}\"")), "{typed}: {anchor}");
    }
    let nothing = plain(&study.http.get("/find?q=no+such+term").text);
    assert!(nothing.contains("Nothing is called “no such term”"), "{nothing}");
    assert!(study.page("decide").contains("href=\"/glossary\""), "linked from the head");
}

//! What jobs do.

use serde::{Deserialize, Serialize};

use crate::records::{Append, Join};

/// What a job does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Work {
    /// Read an uploaded file and say what is in it.
    Scan {
        /// The upload.
        upload: i64,
        /// The sheet that is wanted, if it is a workbook.
        #[serde(default)]
        sheet: Option<String>,
    },
    /// Read what a SELECT gives at a source, and say what is in it.
    Fetch {
        /// The source.
        source: i64,
        /// The SELECT.
        sql: String,
        /// What the table is to be called.
        name: String,
    },
    /// Make an accepted upload a table.
    Import {
        /// The upload.
        upload: i64,
    },
    /// Put two tables together.
    Join {
        /// Which, and how.
        join: Join,
    },
    /// Put the rows of one table below those of another.
    Append {
        /// Which.
        append: Append,
    },
    /// Take somebody who was erased out of what is known of tables, and of models that hold customers.
    Erased {
        /// The tables.
        tables: Vec<i64>,
    },
    /// Look for what goes with the outcome of a study.
    Drivers {
        /// The study.
        study: i64,
    },
    /// Take a table as a list of a study, and match it.
    Bring {
        /// The study.
        study: i64,
        /// The table.
        table: i64,
    },
    /// Draw who is acted on in a campaign.
    Draw {
        /// The campaign.
        campaign: i64,
    },
    /// Find out what came of a campaign.
    Results {
        /// The campaign.
        campaign: i64,
        /// Where it stands what happened.
        from: ResultsFrom,
    },
    /// Find out whether a version of a release keeps its promise.
    Promise {
        /// The version.
        version: i64,
        /// The table that says what happened.
        table: i64,
    },
    /// Match a list anew, after somebody said what its columns are.
    Match {
        /// The list.
        list: i64,
    },
    /// Fit a model.
    Fit {
        /// The model.
        model: i64,
    },
    /// Ask whether more rows would help a candidate, and how far a few columns go.
    Closer {
        /// The candidate.
        model: i64,
    },
    /// Find out what a candidate goes by.
    Understand {
        /// The candidate.
        model: i64,
    },
    /// Find out what the policy would be worth without some columns.
    Without {
        /// The candidate.
        model: i64,
        /// The columns.
        columns: Vec<String>,
    },
    /// Fit a candidate again, to see that it is the same.
    Prove {
        /// The candidate.
        model: i64,
    },
    /// Try a study's rule of today on the rows that candidates are judged on.
    Rule {
        /// The study.
        study: i64,
    },
    /// Search families and settings.
    Search {
        /// The search.
        search: i64,
    },
    /// Make a scored list a table that other programs read.
    Publish {
        /// The list.
        list: i64,
    },
    /// Score a list.
    Score {
        /// The list.
        list: i64,
    },
    /// Open the sealed test and judge the policy on it.
    Confirm {
        /// The study.
        study: i64,
        /// The model.
        model: i64,
    },
}

/// Where it stands what happened to the customers of a campaign.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResultsFrom {
    /// The table.
    pub table: i64,
    /// The columns that tell customers apart: on the list, and in the table.
    pub keys: [String; 2],
    /// The column that says what happened.
    pub outcome: String,
    /// Its value where the event happened.
    pub event: String,
    /// The column with what each customer brought, all costs taken off.
    pub money: Option<String>,
    /// Whether those who are not in the table had no event; else nothing is known of them.
    pub absent_had_none: bool,
}

//! The records as files, each in the format and habit of the system it would come from.

mod columnar;
mod delimited;
mod json_lines;
mod warehouse;
mod workbook;

pub use columnar::visits_parquet;
pub use delimited::{cancellations_csv, damaged_csv, members_csv, outcome_csv, renewals_as_sent_csv, renewals_csv};
pub use json_lines::{dental_customers_jsonl, dental_offer_jsonl};
pub use warehouse::{WarehouseTable, warehouse};
pub use workbook::instalments_xlsx;

//! Instalment agreements as a workbook, the habit of an accounts department.

use rust_xlsxwriter::{Format, Workbook, XlsxError};

use crate::Agreement;

/// Days from the workbook's day 0 to 1970-01-01.
const EPOCH: i32 = 25_569;

/// A workbook of two sheets: the agreements below a title, with real dates; and
/// what the codes mean.
///
/// # Errors
/// If the writer refuses.
pub fn instalments_xlsx(agreements: &[Agreement]) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    let bold = Format::new().set_bold();
    let day = Format::new().set_num_format("dd/mm/yyyy");
    let sheet = book.add_worksheet().set_name("Agreements")?;
    let names = [
        "agreement_no",
        "signed_on",
        "treatment",
        "amount_financed",
        "deposit_share",
        "months",
        "earlier_agreements",
        "late_before",
        "household_income",
        "employment",
        "district",
        "owner_age_band",
        "pet_weight_kg",
        "outcome",
    ];
    sheet.merge_range(0, 0, 0, names.len() as u16 - 1, "Instalment agreements, both years", &bold)?;
    for (column, name) in (0..).zip(names) {
        sheet.write_with_format(1, column, name, &bold)?;
    }
    for (row, a) in (2..).zip(agreements) {
        sheet.write(row, 0, format!("A{}", a.number))?;
        sheet.write_with_format(row, 1, a.signed + EPOCH, &day)?;
        sheet.write(row, 2, a.treatment)?;
        sheet.write(row, 3, a.amount)?;
        sheet.write(row, 4, a.deposit)?;
        sheet.write(row, 5, a.months)?;
        sheet.write(row, 6, a.earlier)?;
        sheet.write(row, 7, a.late_before)?;
        if let Some(income) = a.income {
            sheet.write(row, 8, income)?;
        }
        sheet.write(row, 9, a.employment)?;
        sheet.write(row, 10, a.district.to_string())?;
        sheet.write(row, 11, a.age_band)?;
        sheet.write(row, 12, a.pet_weight)?;
        sheet.write(row, 13, if a.fell_behind { "fell behind" } else { "paid" })?;
    }
    let meaning = book.add_worksheet().set_name("Meaning")?;
    let words = [
        ("column", "meaning"),
        ("deposit_share", "share of the amount that was paid at once"),
        ("late_before", "instalments paid late in earlier agreements"),
        ("outcome", "what became of the agreement within twelve months"),
    ];
    for (row, (column, text)) in (0..).zip(words) {
        meaning.write(row, 0, column)?;
        meaning.write(row, 1, text)?;
    }
    book.save_to_buffer()
}

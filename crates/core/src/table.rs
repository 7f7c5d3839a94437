//! Tables for spreadsheets: CSV (RFC 4180) in which nothing is taken for a formula.

/// A table with its header. A cell that a spreadsheet would run gets an apostrophe before it.
pub fn csv(header: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut out = csv::Writer::from_writer(Vec::new());
    let mut sound = out.write_record(header).is_ok();
    for row in rows {
        sound &= out.write_record(row.iter().map(|cell| plain(cell))).is_ok();
    }
    debug_assert!(sound, "writing to memory");
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}

fn plain(cell: &str) -> String {
    match cell.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{cell}"),
        false => cell.to_string(),
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn formulas_are_text_and_commas_stay_in_their_cells() {
        let rows = [vec!["=1+1".to_string(), "a, \"b\"".into()], vec!["@x".into(), "2026-11-23".into()]];
        assert_eq!(super::csv(&["a", "b"], rows), "a,b\n'=1+1,\"a, \"\"b\"\"\"\n'@x,2026-11-23\n");
    }
}

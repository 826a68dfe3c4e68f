//! Links through the pages of a long table.

/// Where a page stands among the others, and the addresses of those.
pub struct Pager {
    /// What the page shows: `51 – 100 of 24 000`.
    pub place: String,
    /// The addresses of the first page and of the one before; none on the first.
    pub back: Option<[String; 2]>,
    /// The addresses of the next page and of the last; none on the last.
    pub on: Option<[String; 2]>,
}

impl Pager {
    /// Page `page` of `pages`, the first being 1, with the address of each.
    pub fn new(page: u64, pages: u64, place: String, href: impl Fn(u64) -> String) -> Self {
        Self {
            place,
            back: (page > 1).then(|| [href(1), href(page - 1)]),
            on: (page < pages).then(|| [href(page + 1), href(pages)]),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ends_lead_no_farther() {
        let pager = |page, pages| Pager::new(page, pages, String::new(), |page| page.to_string());
        let links = |pager: Pager| (pager.back.map(|b| b.join(" ")), pager.on.map(|o| o.join(" ")));
        assert_eq!(links(pager(1, 1)), (None, None));
        assert_eq!(links(pager(1, 9)), (None, Some("2 9".into())));
        assert_eq!(links(pager(5, 9)), (Some("1 4".into()), Some("6 9".into())));
        assert_eq!(links(pager(9, 9)), (Some("1 8".into()), None));
    }
}

//! The views of the stop, and which is open.

use pronoia_service::study_view::StudyView;

/// A view.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DecideView {
    /// Whom to act on.
    Line,
    /// What the model goes by.
    Why,
    /// One customer.
    Customer,
    /// Groups of customers.
    Groups,
    /// The sheet to print.
    Sheet,
}

/// Links to all views.
pub struct DecideViews(pub Vec<(String, &'static str, bool)>);

impl DecideViews {
    pub fn of(view: &StudyView, open: DecideView) -> Self {
        let all = [
            (DecideView::Line, "decide", "policy"),
            (DecideView::Why, "decide/why", "importance"),
            (DecideView::Customer, "decide/customer", "try a customer"),
            (DecideView::Groups, "decide/groups", "groups"),
            (DecideView::Sheet, "decide/sheet", "policy sheet"),
        ];
        Self(all.into_iter().map(|(of, page, label)| (view.href(page), label, of == open)).collect())
    }
}

//! Customers who were erased through another server are forgotten by this one, too.

use std::time::Duration;

use crate::App;

/// How often it is looked.
const EVERY: Duration = Duration::from_secs(1);

/// Looks now and then, for as long as the server runs.
pub(super) async fn keep_forgetting(app: App) {
    let (mut known, store) = (None, app.store.for_signs_of_life());
    loop {
        match store.erasures().await {
            Ok(erasures) => {
                if known.is_some_and(|known| known != erasures) {
                    app.forget_customers();
                }
                known = Some(erasures);
            }
            // Whoever cannot look does not know what is still there.
            Err(_) => app.forget_customers(),
        }
        tokio::time::sleep(EVERY).await;
    }
}

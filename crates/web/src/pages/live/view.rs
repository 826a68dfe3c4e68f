//! A release as the page shows it.

use chrono::{TimeDelta, Utc};
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::release;

use super::Just;
use super::monitoring::WatchView;
use super::snippets::{self, Snippet};
use crate::App;

/// A release.
pub struct ReleaseView {
    pub id: i64,
    pub name: String,
    pub number: i32,
    pub address: String,
    pub versions: Vec<VersionLine>,
    /// Of how many of 100 calls another version answers, or is proposed to.
    pub tried: String,
    pub keys: Vec<ReleaseKeyLine>,
    /// A key that was just made.
    pub new_key: Option<String>,
    /// Calls of the last day, in a sentence.
    pub calls: String,
    pub body: String,
    pub answer: Option<Result<String, String>>,
    pub snippets: Vec<Snippet>,
    /// What became of the version that answers.
    pub watch: WatchView,
}

/// A version.
pub struct VersionLine {
    pub id: i64,
    pub number: i32,
    pub model: String,
    pub rule: String,
    pub when: String,
    pub calls: String,
    pub customers: String,
    /// The share of them to act on.
    pub acted: String,
    pub live: bool,
    /// How many of 100 calls it answers, where it is tried beside the one that answers.
    pub tried: Option<String>,
}

/// A key.
pub struct ReleaseKeyLine {
    pub id: i64,
    pub name: String,
    pub begins: String,
    pub per_minute: String,
    /// Who made it; empty where that is not known.
    pub by: String,
    pub when: String,
    /// Since when it opens nothing.
    pub revoked: Option<String>,
}

impl ReleaseView {
    pub(super) async fn of(
        app: &App,
        release: &release::Model,
        server: &str,
        just: &Just,
    ) -> Result<Self, ServiceError> {
        let uses = app.store.uses(release.id).await?;
        let mut versions = Vec::new();
        for version in app.store.release_versions(release.id).await? {
            let own = || uses.iter().filter(|used| used.version_id == version.id);
            let calls: i64 = own().map(|used| used.calls).sum();
            let (customers, acted) = own().fold((0, 0), |sum, used| (sum.0 + used.customers, sum.1 + used.acted));
            versions.push(VersionLine {
                id: version.id,
                number: version.number,
                model: app.store.model_name(version.model_id).await?,
                rule: version.decided_by()?.policy.rule.in_short(),
                when: text::moment(&version.created_at),
                calls: text::count_of(calls),
                customers: text::count_of(customers),
                acted: if customers > 0 { text::percent(acted as f64 / customers as f64) } else { "–".into() },
                live: release.version_id == Some(version.id),
                tried: (release.challenger_id == Some(version.id)).then(|| text::plain_share(release.challenger_share)),
            });
        }
        let keys = app.store.release_keys(release.id).await?;
        let makers = app.store.addresses(keys.iter().filter_map(|key| key.account_id)).await?;
        let keys = keys.into_iter().map(|key| ReleaseKeyLine {
            by: key.account_id.and_then(|id| makers.get(&id).cloned()).unwrap_or_else(|| "–".into()),
            id: key.id,
            name: key.name,
            begins: key.begins,
            per_minute: text::count_of(i64::from(key.per_minute)),
            when: text::moment(&key.created_at),
            revoked: key.revoked_at.as_ref().map(text::moment),
        });
        let here = just.release == release.id;
        let live = release.version_id.ok_or(ServiceError::NotFound)?;
        let ready = app.release_calls.ready(app, (release.workspace_id, live)).await?;
        let example = snippets::example(&ready);
        let numbers: Vec<(i64, i32)> =
            versions.iter().map(|version: &VersionLine| (version.id, version.number)).collect();
        let watch = WatchView::of(app, live, &ready.expected, &numbers).await?;
        let address = format!("{server}/api/v1/releases/{}/score", release.name);
        let since = Utc::now() - TimeDelta::hours(24);
        let today = || uses.iter().filter(|used| used.hour >= since);
        let sum = |of: fn(&pronoia_store::release_use::Model) -> i64| today().map(of).sum::<i64>();
        let (calls, refused, customers) = (sum(|u| u.calls), sum(|u| u.refused), sum(|u| u.customers));
        let slowest = today().map(|used| used.slowest).max().unwrap_or(0);
        let millis = |micros: f64| text::fixed(micros / 1_000.0, 1);
        let tried = just.tried.as_ref().filter(|_| here);
        Ok(Self {
            id: release.id,
            name: release.name.clone(),
            number: ready.number,
            tried: versions.iter().find_map(|version| version.tried.clone()).unwrap_or_else(|| "10".into()),
            versions,
            keys: keys.collect(),
            new_key: just.key.clone().filter(|_| here),
            calls: if calls + refused == 0 {
                "Nobody has called it within the last day.".into()
            } else {
                let share = |n: i64| text::percent(n as f64 / customers.max(1) as f64);
                format!(
                    "Within the last day {} answered and {} refused: {} scored, {} selected, {} with remarks; {} ms a call on average, {} ms the slowest.",
                    text::counted(calls as usize, "call was", "calls were"),
                    text::count_of(refused),
                    text::counted(customers as usize, "customer", "customers"),
                    share(sum(|u| u.acted)),
                    share(sum(|u| u.remarked)),
                    millis(sum(|u| u.micros) as f64 / calls.max(1) as f64),
                    millis(slowest as f64)
                )
            },
            body: tried
                .map_or_else(|| serde_json::to_string_pretty(&example).unwrap_or_default(), |(body, _)| body.clone()),
            answer: tried.map(|(_, answer)| answer.clone()),
            snippets: snippets::of(&address, &example),
            address,
            watch,
        })
    }
}

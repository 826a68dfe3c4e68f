//! Lists, campaigns, releases, and what became of them.

use pronoia_core::campaign::CampaignOutcome;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::StoreError;

use crate::App;
use crate::pages::lists::campaigns::results::CameOfIt;
use crate::pages::live::monitoring::WatchView;
use crate::pages::live::statement::Section;

pub async fn section(app: &App, view: &StudyView) -> Result<Option<Section>, ServiceError> {
    let mut section = Section::new("In use");
    let scored = view.lists.iter().filter(|list| list.scored_id.is_some());
    let mut lists = Vec::new();
    for list in scored {
        let table = app.store.table(view.study.workspace_id, list.table_id).await?;
        let acted = list.acted.map_or(String::new(), |acted| format!(", {} selected", text::count_of(acted)));
        lists.push(format!("List {}: {} customers{acted}.", table.name, text::count_of(table.rows)));
    }
    section = section.lists(lists);
    for campaign in app.store.campaigns(view.study.id).await? {
        let list = app.store.list(campaign.list_id).await?;
        let sentence = match campaign.outcome.clone() {
            None => "its results are not imported yet.".to_owned(),
            Some(value) => {
                let outcome: CampaignOutcome = serde_json::from_value(value).map_err(StoreError::from)?;
                let found = CameOfIt::of(outcome, &campaign, &campaign.drawn()?, &list.decided_by()?, view);
                [Some(found.heading), found.money, found.learned].into_iter().flatten().collect::<Vec<_>>().join(" ")
            }
        };
        section = section.says(format!("Campaign “{}”: {sentence}", campaign.name));
    }
    for release in app.store.releases(view.study.id).await? {
        let Some(version) = release.version_id else { continue };
        let ready = app.release_calls.ready(app, (release.workspace_id, version)).await?;
        let versions = app.store.release_versions(release.id).await?;
        let numbers: Vec<(i64, i32)> = versions.iter().map(|version| (version.id, version.number)).collect();
        let watch = WatchView::of(app, version, &ready.expected, &numbers).await?;
        section = section.says(format!("Active version of release “{}”: {}.", release.name, ready.number));
        section = if watch.moved { section.warns(watch.finding) } else { section.says(watch.finding) };
        if let Some(unseen) = watch.unseen {
            section = section.says(unseen);
        }
        for promise in watch.promises {
            let said = format!("Version {} on {}: {}", promise.version, promise.table, promise.sentence);
            section = if promise.broken { section.warns(said) } else { section.says(said) };
        }
    }
    Ok((!section.blocks.is_empty()).then_some(section))
}

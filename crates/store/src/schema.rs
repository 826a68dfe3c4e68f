//! The tables that Pronoia keeps for itself, in steps that are applied once.

use sea_orm_migration::prelude::*;

/// All steps in order.
pub(crate) struct Migrator;

impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(SchemaStep::FOUNDATION),
            Box::new(SchemaStep::FINDING),
            Box::new(SchemaStep::SURVEY),
            Box::new(SchemaStep::DICTIONARY),
            Box::new(SchemaStep::SOURCE),
            Box::new(SchemaStep::JUDGEMENT),
            Box::new(SchemaStep::SEARCH),
            Box::new(SchemaStep::CLOSER),
            Box::new(SchemaStep::POLICY),
            Box::new(SchemaStep::UNDERSTANDING),
            Box::new(SchemaStep::MATCHING),
            Box::new(SchemaStep::CAMPAIGN),
            Box::new(SchemaStep::RELEASE),
            Box::new(SchemaStep::WATCH),
            Box::new(SchemaStep::CHALLENGER),
            Box::new(SchemaStep::PUBLISHED),
            Box::new(SchemaStep::PROGRAM),
            Box::new(SchemaStep::PEOPLE),
            Box::new(SchemaStep::SESSION),
            Box::new(SchemaStep::LEDGER),
            Box::new(SchemaStep::AWAY),
            Box::new(SchemaStep::SHARE),
            Box::new(SchemaStep::DO_NOT_CONTACT),
            Box::new(SchemaStep::QUESTION),
            Box::new(SchemaStep::LEASE),
            Box::new(SchemaStep::DOOR),
        ]
    }
}

/// A step: statements that are applied once.
struct SchemaStep {
    name: &'static str,
    sql: &'static str,
}

impl SchemaStep {
    /// Accounts, workspaces, records, studies, models, lists, ledger, jobs.
    const FOUNDATION: Self = Self { name: "m0001_foundation", sql: include_str!("schema/0001_foundation.sql") };
    /// What goes with a study's outcome.
    const FINDING: Self = Self { name: "m0002_finding", sql: include_str!("schema/0002_finding.sql") };
    /// Who is judged on what, and what to be careful of.
    const SURVEY: Self = Self { name: "m0003_survey", sql: include_str!("schema/0003_survey.sql") };
    /// What columns mean.
    const DICTIONARY: Self = Self { name: "m0004_dictionary", sql: include_str!("schema/0004_dictionary.sql") };
    /// Databases that records are read from.
    const SOURCE: Self = Self { name: "m0005_source", sql: include_str!("schema/0005_source.sql") };
    /// What models said of the rows that they are judged on.
    const JUDGEMENT: Self = Self { name: "m0006_judgement", sql: include_str!("schema/0006_judgement.sql") };
    /// Searches over families and settings.
    const SEARCH: Self = Self { name: "m0007_search", sql: include_str!("schema/0007_search.sql") };
    /// What is known of candidates besides, stages of jobs, and the rule of today.
    const CLOSER: Self = Self { name: "m0008_closer", sql: include_str!("schema/0008_closer.sql") };
    /// By what rule a policy acts, and for whom.
    const POLICY: Self = Self { name: "m0009_policy", sql: include_str!("schema/0009_policy.sql") };
    /// What candidates go by.
    const UNDERSTANDING: Self =
        Self { name: "m0010_understanding", sql: include_str!("schema/0010_understanding.sql") };
    /// How lists are read, and what their scored form holds.
    const MATCHING: Self = Self { name: "m0011_matching", sql: include_str!("schema/0011_matching.sql") };
    /// Lists acted on.
    const CAMPAIGN: Self = Self { name: "m0012_campaign", sql: include_str!("schema/0012_campaign.sql") };
    /// Models and policies that other programs call.
    const RELEASE: Self = Self { name: "m0013_release", sql: include_str!("schema/0013_release.sql") };
    /// What became of models in use.
    const WATCH: Self = Self { name: "m0014_watch", sql: include_str!("schema/0014_watch.sql") };
    /// Two versions of a release side by side.
    const CHALLENGER: Self = Self { name: "m0015_challenger", sql: include_str!("schema/0015_challenger.sql") };
    /// Scored lists that other programs read.
    const PUBLISHED: Self = Self { name: "m0016_published", sql: include_str!("schema/0016_published.sql") };
    /// Keys by which other programs do the work of a workspace.
    const PROGRAM: Self = Self { name: "m0017_program", sql: include_str!("schema/0017_program.sql") };
    /// What members of a workspace may do, and how others join.
    const PEOPLE: Self = Self { name: "m0018_people", sql: include_str!("schema/0018_people.sql") };
    /// What tells the sessions of one account apart.
    const SESSION: Self = Self { name: "m0019_session", sql: include_str!("schema/0019_session.sql") };
    /// What entries of ledgers changed, and what was remarked on them.
    const LEDGER: Self = Self { name: "m0020_ledger", sql: include_str!("schema/0020_ledger.sql") };
    /// What was put away, and who keeps a study.
    const AWAY: Self = Self { name: "m0021_away", sql: include_str!("schema/0021_away.sql") };
    /// Links by which others read a statement.
    const SHARE: Self = Self { name: "m0022_share", sql: include_str!("schema/0022_share.sql") };
    /// Who is not to be contacted.
    const DO_NOT_CONTACT: Self =
        Self { name: "m0023_do_not_contact", sql: include_str!("schema/0023_do_not_contact.sql") };
    /// Roles by which questions are asked, and what the accounts of sources may change.
    const QUESTION: Self = Self { name: "m0024_question", sql: include_str!("schema/0024_question.sql") };
    /// Leases on jobs, versions of tables that only rise, published lists of their own.
    const LEASE: Self = Self { name: "m0025_lease", sql: include_str!("schema/0025_lease.sql") };
    /// Attempts to sign in, makers of keys, who was erased.
    const DOOR: Self = Self { name: "m0026_door", sql: include_str!("schema/0026_door.sql") };
}

impl MigrationName for SchemaStep {
    fn name(&self) -> &str {
        self.name
    }
}

#[async_trait::async_trait]
impl MigrationTrait for SchemaStep {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(self.sql).await?;
        Ok(())
    }
}

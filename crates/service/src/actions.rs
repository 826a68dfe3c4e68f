//! All actions.

/// Hands the types of all actions to a macro.
#[macro_export]
macro_rules! every_action {
    ($then:ident) => {
        $then! {
            $crate::compare::ComputeLearningCurve,
            $crate::compare::SetTodaysRule,
            $crate::decide::ComputeImportance,
            $crate::decide::ConfirmPolicy,
            $crate::decide::KeepPolicy,
            $crate::ledger::BranchStudy,
            $crate::ledger::UndoEntry,
            $crate::lists::ImportList,
            $crate::lists::PublishList,
            $crate::lists::ScoreList,
            $crate::live::ReleasePolicy,
            $crate::prepare::cautions::AcceptCaution,
            $crate::prepare::cautions::ResolveCaution,
            $crate::prepare::columns::ExcludeProposed,
            $crate::prepare::columns::SetColumnRole,
            $crate::prepare::outcome::MoveToVersion,
            $crate::prepare::outcome::SetOutcome,
            $crate::prepare::outcome::SetOutcomeWindow,
            $crate::prepare::split::SetBalance,
            $crate::prepare::split::SetSplit,
            $crate::prepare::steps::AddStep,
            $crate::prepare::steps::ChangeStep,
            $crate::records::AcceptFile,
            $crate::records::ReadSheet,
            $crate::studies::CreateStudy,
            $crate::train::BeginSearch,
            $crate::train::FitCandidate,
            $crate::train::FitEnsemble,
            $crate::train::ProveReproducibility,
            $crate::train::RefitCandidate,
            $crate::train::RemoveCandidate,
        }
    };
}

macro_rules! declarations {
    ($($action:path,)+) => {
        /// How all actions are declared.
        pub const DECLARATIONS: &[$crate::Declaration] = &[$(<$action as $crate::Action>::DECLARATION),+];
    };
}

every_action!(declarations);

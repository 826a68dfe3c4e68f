//! What candidates came to on the rows that they are judged on. It never changes once they are fitted, and
//! is kept as it was read.

use std::collections::HashMap;
use std::sync::Arc;

use pronoia_core::decide::{CutPoint, Ranking};
use pronoia_core::evaluate::Evaluation;
use pronoia_store::StoreError;

use crate::App;
use crate::cache::PolicyCache;

/// Bytes of all figures that are kept.
const KEPT: usize = 64 << 20;

/// About how many bytes the curves of one candidate take.
const CURVES: usize = 16 << 10;

/// What one candidate came to.
#[derive(Debug, Clone)]
pub struct CandidateFigures {
    /// Its measures and curves.
    pub evaluation: Arc<Evaluation>,
    /// The rows that it is judged on, in order of probability.
    pub ranking: Option<Arc<Ranking>>,
}

impl CandidateFigures {
    fn bytes(&self) -> usize {
        CURVES + self.ranking.as_ref().map_or(0, |ranking| size_of::<CutPoint>() * ranking.stands.len())
    }
}

/// The figures that were asked for last.
#[derive(Debug, Clone)]
pub struct EvaluationCache(PolicyCache<i64, CandidateFigures>);

impl Default for EvaluationCache {
    fn default() -> Self {
        Self(PolicyCache::within(KEPT, CandidateFigures::bytes))
    }
}

impl EvaluationCache {
    /// Forgets all figures.
    pub fn clear(&self) {
        self.0.clear();
    }

    /// The figures of those of some candidates that were judged.
    pub async fn of(
        &self,
        app: &App,
        models: impl IntoIterator<Item = i64>,
    ) -> Result<HashMap<i64, CandidateFigures>, StoreError> {
        let (mut found, mut missing) = (HashMap::new(), Vec::new());
        for id in models {
            match self.0.get(&id) {
                Some(figures) => drop(found.insert(id, CandidateFigures::clone(&figures))),
                None => missing.push(id),
            }
        }
        if missing.is_empty() {
            return Ok(found);
        }
        for (id, (evaluation, ranking)) in app.store.figures(&missing).await? {
            let figures = CandidateFigures { evaluation: Arc::new(evaluation), ranking: ranking.map(Arc::new) };
            self.0.put(id, figures.clone());
            found.insert(id, figures);
        }
        Ok(found)
    }

    /// The rows that one candidate is judged on, in order of probability; none if it is not judged.
    pub async fn ranking(&self, app: &App, model: i64) -> Result<Option<Arc<Ranking>>, StoreError> {
        Ok(self.of(app, [model]).await?.remove(&model).and_then(|figures| figures.ranking))
    }
}

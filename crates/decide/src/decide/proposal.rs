//! Where the line is proposed until somebody draws it.

use super::payoff::Payoffs;
use super::policy_evaluation::PolicyEvaluation;
use super::rule::CutOff;

/// Lines that are proposed, by probability.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CutOffProposal {
    /// From where on to act.
    pub act: f64,
    /// From where on somebody looks.
    pub refer: Option<f64>,
    /// Whether it is where each begins to pay, and not where the curve is highest.
    pub break_even: bool,
}

impl Payoffs {
    /// From which probability on acting is the best that can be done, and from which on having
    /// somebody look is; none if acting pays always, never, or for the low ones.
    pub fn lines(&self) -> Option<(f64, Option<f64>)> {
        let two = self
            .refer
            .and_then(|refer| Some((self.act.over(refer).break_even()?, refer.over(self.leave).break_even()?)));
        match two {
            Some((act, refer)) if refer < act => Some((act, Some(refer))),
            _ => Some((self.gain().break_even()?, None)),
        }
    }
}

impl PolicyEvaluation {
    /// Proposes the lines of a rule by probability, within its limits.
    ///
    /// With `payoffs` that are the same for everybody that is where acting begins to pay, unless
    /// the judged customers say clearly that the best point on them brings more, even without what
    /// flatters it: that point is partly luck, and a break-even is not. Otherwise it is the best point. A second line is
    /// proposed if `referring`.
    pub fn proposed(&self, payoffs: Option<&Payoffs>, referring: bool) -> CutOffProposal {
        let curve = &self.curve;
        let key = |at: usize| curve.points[at].cut_off;
        let (act, refer) = if referring { curve.best_referring(self.limit) } else { (self.best.at, self.best.at) };
        let best = (act, refer);
        let at_best = CutOffProposal { act: key(act), refer: (refer > act).then(|| key(refer)), break_even: false };
        let lines = payoffs.and_then(|payoffs| match (payoffs.lines()?, referring) {
            ((_, Some(_)), false) => Some((payoffs.gain().break_even()?, None)),
            (lines, _) => Some(lines),
        });
        let Some((from, refer_from)) = lines else { return at_best };
        let position = |least: f64| curve.last_within(&[CutOff::Least(least)]);
        let act = position(from);
        let refer = refer_from.map_or(act, position).max(act);
        if act == 0 || act > self.limit || curve.referring_over((act, refer), best).high < -curve.optimism {
            return at_best;
        }
        CutOffProposal { act: from, refer: refer_from, break_even: true }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Economics, EvaluationScale, Payoff, Population, Ranking, Rule};
    use super::*;
    use crate::question::Question;
    use proptest::prelude::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn drawn(n: usize, seed: u64) -> (Vec<f64>, Vec<bool>) {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        (0..n)
            .map(|_| {
                let p = rng.random::<f64>().powi(2);
                (p, rng.random::<f64>() < p)
            })
            .unzip()
    }

    fn weighed(economics: &Economics<f64>, seed: u64, rule: Rule) -> PolicyEvaluation {
        let (p, event) = drawn(4_000, seed);
        let ranking = Ranking::of(&p, &event).expect("rows");
        let population = Population::default();
        PolicyEvaluation::counted(
            &ranking,
            economics,
            &rule,
            &EvaluationScale { population: &population, doubt: 0.0, seed: 1 },
        )
    }

    #[test]
    fn the_break_even_is_proposed_where_probabilities_hold() {
        let churn = Economics::usual(Question::Churn);
        let payoffs = churn.payoffs();
        let at = payoffs.gain().break_even().expect("one");
        let weighing = weighed(&churn, 1, Rule::cut_off(0.0));
        assert_eq!(weighing.proposed(Some(&payoffs), false), CutOffProposal { act: at, refer: None, break_even: true });
        let best = weighing.curve.points[weighing.best.at].cut_off;
        assert_eq!(weighing.proposed(None, false), CutOffProposal { act: best, refer: None, break_even: false });
    }

    #[test]
    fn two_lines_lie_where_what_is_best_changes() {
        let credit = Economics::usual(Question::Credit);
        let payoffs = credit.payoffs();
        let proposal = weighed(&credit, 2, Rule::cut_off(0.0)).proposed(Some(&payoffs), true);
        let (act, Some(refer)) = (proposal.act, proposal.refer) else { panic!("two lines") };
        let expected = |p: f64| [payoffs.leave, payoffs.refer.expect("a look"), payoffs.act].map(|of| of.expected(p));
        let best = |p: f64| (0..3).max_by(|&a, &b| expected(p)[a].total_cmp(&expected(p)[b])).expect("three");
        assert_eq!([refer - 1e-6, refer + 1e-6, act - 1e-6, act + 1e-6].map(best), [0, 1, 1, 2]);
        let single = weighed(&credit, 2, Rule::cut_off(0.0)).proposed(Some(&payoffs), false);
        assert_eq!((single.refer, Some(single.act)), (None, payoffs.gain().break_even()));
    }

    #[test]
    fn the_curve_decides_where_probabilities_do_not_hold_or_a_limit_is_in_the_way() {
        let churn = Economics::usual(Question::Churn);
        let payoffs = churn.payoffs();
        let (p, event) = drawn(4_000, 3);
        // Everybody is said to be four times as safe.
        let said: Vec<f64> = p.iter().map(|p| p / 4.0).collect();
        let ranking = Ranking::of(&said, &event).expect("rows");
        let population = Population::default();
        let scale = EvaluationScale { population: &population, doubt: 0.0, seed: 1 };
        let weighing = PolicyEvaluation::counted(&ranking, &churn, &Rule::cut_off(0.0), &scale);
        assert!(!weighing.proposed(Some(&payoffs), false).break_even);
        let limited = Rule { limits: vec![CutOff::Customers(50.0)], ..Rule::cut_off(0.0) };
        let weighing = weighed(&churn, 1, limited);
        let proposal = weighing.proposed(Some(&payoffs), false);
        assert!(!proposal.break_even && proposal.act > payoffs.gain().break_even().expect("one"));
    }

    proptest! {
        #[test]
        fn what_is_proposed_is_never_clearly_worse_than_the_best(seed in 0u64..500, event in 1.0..80.0f64, other in -40.0..-0.5f64) {
            let plain = Payoffs { act: Payoff { event, other }, ..Payoffs::default() };
            let economics = Economics::usual(Question::Other)
                .with("act_event", event).with("act_other", other).with("leave_event", 0.0).with("leave_other", 0.0);
            let weighing = weighed(&economics, seed, Rule::cut_off(0.0));
            let proposal = weighing.proposed(Some(&plain), false);
            let at = weighing.curve.last_within(&[CutOff::Least(proposal.act)]);
            let best = weighing.best.at;
            let over = weighing.curve.referring_over((at, at), (best, best));
            prop_assert!(over.high >= -weighing.curve.optimism, "{:?} {}", over, weighing.curve.optimism);
        }
    }
}

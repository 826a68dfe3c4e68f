//! Down to whom a rule acts, found from customers who are met one after the other.

use super::rule::{Order, Rule, SoFar};

/// Customers beyond those who may still be acted on that are kept before they are sorted out.
const SPARE: usize = 1 << 16;

/// The least key of those who are acted on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LeastKey(f64);

impl LeastKey {
    /// Nobody.
    const NOBODY: Self = Self(f64::INFINITY);

    /// Whether a customer with this key is acted on.
    pub fn acts(self, key: f64) -> bool {
        key >= self.0
    }
}

/// The customers who come first by a rule. Those who cannot be acted on any more, whoever is still
/// to come, are let go, so that about as many are held as are acted on; all are where only the share
/// with the event among them is bounded.
#[derive(Debug)]
pub struct Front {
    rule: Rule,
    size: f64,
    each: f64,
    /// Those who may be acted on, in the order in which they were met among equal keys.
    first: Vec<StreamPlace>,
    /// How many there were when they were last sorted out.
    sorted: usize,
    /// Whoever has this key or less is not acted on.
    shut: f64,
    /// Whether acting on more people never takes less out of a budget.
    only_grows: bool,
}

#[derive(Debug, Clone, Copy)]
struct StreamPlace {
    key: f64,
    spent: f64,
    probability: f64,
}

impl Rule {
    /// The cut of a rule that needs nobody to be counted: one that goes by least keys alone.
    pub fn fixed_cut(&self) -> Option<LeastKey> {
        let least: Option<f64> =
            self.bounds().try_fold(f64::NEG_INFINITY, |most, bound| Some(most.max(bound.least()?)));
        // Acting is never right where it gains nothing, unless only probabilities are looked at.
        let gains = if self.by == Order::Probability { f64::NEG_INFINITY } else { f64::MIN_POSITIVE };
        least.map(|least| LeastKey(least.max(gains)))
    }
}

impl Front {
    /// Nobody met yet, of `rows` who together stand for `size` customers.
    pub fn of(rule: &Rule, rows: usize, size: f64) -> Self {
        Self {
            rule: rule.clone(),
            size,
            each: size / rows.max(1) as f64,
            first: Vec::new(),
            sorted: 0,
            shut: f64::NEG_INFINITY,
            only_grows: true,
        }
    }

    /// Meets a customer: their key in the order of the rule, what acting on them takes out of a
    /// budget, and their probability.
    pub fn meet(&mut self, key: f64, spent: f64, probability: f64) {
        if key <= self.shut || !self.rule.by.gains(key) {
            return;
        }
        self.only_grows &= spent >= 0.0;
        self.first.push(StreamPlace { key, spent, probability });
        if self.first.len() >= 2 * self.sorted + SPARE {
            self.sort_out();
        }
    }

    fn sort_out(&mut self) {
        let reached = self.walk().0;
        if self.only_grows
            && let Some(beyond) = self.first.get(reached)
        {
            self.shut = self.shut.max(beyond.key);
            self.first.truncate(reached);
        }
        self.sorted = self.first.len();
    }

    /// Sorts those held; how many keep to every bound that more customers cannot keep to again, and
    /// how many of them keep to all bounds.
    fn walk(&mut self) -> (usize, usize) {
        self.first.sort_by(|a, b| b.key.total_cmp(&a.key));
        let (mut acted, mut spent, mut events) = (0.0, 0.0, 0.0);
        let (mut reached, mut last) = (0, 0);
        for (at, place) in self.first.iter().enumerate() {
            acted += self.each;
            spent += place.spent * self.each;
            events += place.probability * self.each;
            if self.first.get(at + 1).is_some_and(|next| next.key == place.key) {
                continue;
            }
            let so_far = SoFar { key: place.key, acted, share: acted / self.size, spent, events };
            if !self.rule.bounds().filter(|b| !b.may_recover()).all(|b| b.allows(&so_far)) {
                break;
            }
            reached = at + 1;
            if self.rule.bounds().all(|bound| bound.allows(&so_far)) {
                last = at + 1;
            }
        }
        (reached, last)
    }

    /// The cut, once everybody was met.
    pub fn cut(mut self) -> LeastKey {
        let last = self.walk().1;
        last.checked_sub(1).and_then(|at| self.first.get(at)).map_or(LeastKey::NOBODY, |place| LeastKey(place.key))
    }
}

#[cfg(test)]
mod tests {
    use super::super::CutOff;
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn rule(line: CutOff, limits: Vec<CutOff>) -> Rule {
        Rule { by: Order::Probability, line, limits, refer_from: None }
    }

    #[test]
    fn a_rule_of_least_keys_needs_nobody_to_be_counted() {
        let cut = |rule: Rule| rule.fixed_cut();
        assert_eq!(cut(Rule::cut_off(0.3)), Some(LeastKey(0.3)));
        assert_eq!(cut(rule(CutOff::Least(0.3), vec![CutOff::Least(0.4)])), Some(LeastKey(0.4)));
        assert_eq!(cut(Rule { by: Order::Gain, ..Rule::cut_off(-5.0) }), Some(LeastKey(f64::MIN_POSITIVE)));
        assert_eq!(cut(rule(CutOff::Least(0.3), vec![CutOff::Customers(9.0)])), None);
    }

    #[test]
    fn customers_who_cannot_be_reached_any_more_are_let_go_and_the_cut_is_the_same() {
        const ROWS: usize = 400_000;
        let mut rng = ChaCha8Rng::seed_from_u64(3);
        // Few different keys, so that many come equally early.
        let customers: Vec<(f64, f64)> = (0..ROWS)
            .map(|_| (f64::from(rng.random_range(0..5_000u32)) / 5_000.0, rng.random_range(0.0..4.0)))
            .collect();
        for bounds in [
            (CutOff::Customers(900.0), vec![]),
            (CutOff::Budget(2_000.0), vec![CutOff::Share(0.5)]),
            (CutOff::Least(0.5), vec![CutOff::Customers(20_000.0), CutOff::Precision(0.99)]),
        ] {
            let rule = rule(bounds.0, bounds.1);
            let mut front = Front::of(&rule, ROWS, ROWS as f64);
            let mut most = 0;
            for (p, spent) in &customers {
                front.meet(*p, *spent, *p);
                most = most.max(front.first.len());
            }
            assert!(most <= SPARE + 50_000, "{most} were held for {rule:?}");
            let cut = front.cut();
            // Everybody at once, sorted once.
            let mut all = Front::of(&rule, ROWS, ROWS as f64);
            all.first = customers.iter().map(|&(key, spent)| StreamPlace { key, spent, probability: key }).collect();
            assert_eq!(cut, all.cut(), "{rule:?}");
            let acted = customers.iter().filter(|c| cut.acts(c.0)).count();
            assert!((400..=20_000).contains(&acted), "{acted} are acted on by {rule:?}");
        }
    }

    #[test]
    fn where_acting_may_give_money_back_nobody_is_let_go() {
        let rule = rule(CutOff::Budget(10.0), vec![]);
        let mut front = Front::of(&rule, 3 * SPARE, 3.0 * SPARE as f64);
        front.meet(0.9, -1e9, 0.9);
        (0..3 * SPARE - 1).for_each(|_| front.meet(0.5, 1.0, 0.5));
        assert!(front.cut().acts(0.5));
    }
}

//! What campaigns with known truth say they changed.

use pronoia_core::campaign::{Arms, Happened, Learned, Results, assign};
use pronoia_core::decide::Economics;
use pronoia_core::question::Question;
use pronoia_demo::{
    FIRST_CUSTOMER, FIRST_RENEWAL, Renewed, SEED, TRUE_ANYWAY, TRUE_SAVE_RATE, booked, dental_offer, members, renewed,
};

/// Campaigns whose intervals are counted.
const CAMPAIGNS: u64 = 300;

#[test]
fn intervals_of_campaigns_cover_the_true_effect_and_money_is_that_of_the_ledger() {
    let (mut covered, mut by_ratio) = (0, 0);
    let mut found_rates = Vec::new();
    for at in 0..CAMPAIGNS {
        // Those to act on, as a model that knew the truth would choose them.
        let all = members(3_000, SEED + 100 + at, FIRST_RENEWAL);
        let targets: Vec<_> = all.iter().filter(|m| m.true_probability >= 0.24).cloned().collect();
        let bands: Vec<usize> = targets.iter().map(|m| usize::from(m.true_probability < 0.4)).collect();
        let arms = assign(&Arms { control: 0.35, acts: vec!["fee holiday".into()], seed: at }, &bands);
        let offered: Vec<u32> = targets.iter().zip(&arms).filter(|(_, arm)| arm.is_some()).map(|(m, _)| m.id).collect();
        let happened = renewed(&targets, &offered, 7_000 + at);
        let one = |((r, arm), (m, band)): ((&Renewed, &Option<usize>), (&pronoia_demo::Member, &usize))| Happened {
            arm: *arm,
            probability: m.true_probability,
            band: *band,
            event: r.cancelled,
            money: Some(r.brought),
        };
        let customers: Vec<Happened> = happened.iter().zip(&arms).zip(targets.iter().zip(&bands)).map(one).collect();
        let results = Results::of(&customers, 1).expect("both groups");
        let acted = || customers.iter().filter(|c| c.arm.is_some());
        let truth = -acted().map(|c| c.probability * TRUE_SAVE_RATE).sum::<f64>() / acted().count() as f64;
        covered += u32::from(results.all.interval.0 <= truth && truth <= results.all.interval.1);
        let learned = Learned::of(&Economics::usual(Question::Churn), &results.all).expect("a save rate");
        by_ratio += u32::from(learned.interval.0 <= TRUE_SAVE_RATE && TRUE_SAVE_RATE <= learned.interval.1);
        found_rates.push(learned.found);

        let ledger = |acted: bool| {
            let side: Vec<f64> =
                customers.iter().filter(|c| c.arm.is_some() == acted).filter_map(|c| c.money).collect();
            (side.iter().sum::<f64>(), side.len() as f64)
        };
        let ((with, n), (without, m)) = (ledger(true), ledger(false));
        let realised = results.money.expect("known").0;
        assert!((realised - (with - n * without / m)).abs() < 1e-6, "{at}: {realised}");
    }
    let mean = found_rates.iter().sum::<f64>() / CAMPAIGNS as f64;
    println!("difference covered {covered}, save rate covered {by_ratio} of {CAMPAIGNS}; mean save rate {mean:.3}");
    for covered in [covered, by_ratio] {
        assert!((f64::from(covered) / CAMPAIGNS as f64 - 0.95).abs() <= 0.03, "{covered} of {CAMPAIGNS}");
    }
    assert!((mean - TRUE_SAVE_RATE).abs() < 0.02, "{mean}");
}

#[test]
fn who_books_without_a_letter_is_found_out_by_those_held_back() {
    let (mut covered, mut found) = (0, Vec::new());
    for at in 0..CAMPAIGNS {
        let all = dental_offer(6_000, SEED + 900 + at, FIRST_CUSTOMER);
        let targets: Vec<_> = all.iter().filter(|c| c.true_probability >= 0.06).cloned().collect();
        let arms = assign(&Arms { control: 0.35, acts: vec!["letter".into()], seed: at }, &vec![0; targets.len()]);
        let offered: Vec<u32> =
            targets.iter().zip(&arms).filter(|(_, arm)| arm.is_some()).map(|(c, _)| c.customer).collect();
        let happened = booked(&targets, &offered, 5_000 + at);
        let customers: Vec<Happened> = happened
            .iter()
            .zip(&arms)
            .zip(&targets)
            .map(|((b, arm), c)| Happened {
                arm: *arm,
                probability: c.true_probability,
                band: 0,
                event: b.booked,
                money: Some(b.brought),
            })
            .collect();
        let results = Results::of(&customers, 1).expect("both groups");
        let acted = || customers.iter().filter(|c| c.arm.is_some());
        let truth = acted().map(|c| c.probability * (1.0 - TRUE_ANYWAY)).sum::<f64>() / acted().count() as f64;
        covered += u32::from(results.all.interval.0 <= truth && truth <= results.all.interval.1);
        found.push(Learned::of(&Economics::usual(Question::Response), &results.all).expect("who books anyway").found);
    }
    let mean = found.iter().sum::<f64>() / CAMPAIGNS as f64;
    println!("covered {covered} of {CAMPAIGNS}; {mean:.3} book anyway");
    assert!((f64::from(covered) / CAMPAIGNS as f64 - 0.95).abs() <= 0.03, "{covered} of {CAMPAIGNS}");
    assert!((mean - TRUE_ANYWAY).abs() < 0.02, "{mean}");
}

//! What a decision rests on, worked out over HTTP for amounts as they are typed.

use crate::support::study::Study;
use crate::support::{plain, until};
use pronoia_core::decide::{CutOff, Order, Rule};
use pronoia_core::number;
use pronoia_core::score::{DECISION, OFFER, PROBABILITY};
use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, renewals_csv};

/// A figure that follows the line.
fn live<'p>(page: &'p str, name: &str) -> &'p str {
    let after = page.split(&format!("data-live=\"{name}\">")).nth(1).expect("the figure");
    after.split('<').next().expect("its text")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_would_have_to_be_true_follows_the_amounts_and_the_line() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let page = study.page("decide");
    for says in ["Break-even: which assumption would make it lose money", "Customer margin a year", "Most sensitive to"]
    {
        assert!(page.contains(says), "{says}: {page}");
    }

    // Acting on everybody: the break-even of the closed form, in the page's own figures.
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    let (_, ranking) = study.store.figures(&[model]).await.expect("read").remove(&model).expect("judged");
    let ranking = ranking.expect("ranked");
    let (n, e) = (ranking.rows as f64, ranking.events as f64);
    let stayers = (n - e) * (0.35 * 24.0 + 2.4);
    let value_kept = 24.0 + (e * 2.4 + stayers) / (e * 0.9);
    let on_all = "save_rate=90&offer_cost=24&stayers_take=35&contact_cost=2.4&line=100&line_as=share";
    let part = |value_kept: &str| study.page(&format!("decide/parts?value_kept={value_kept}&{on_all}"));
    let pays = part("400");
    let expected = format!("below {}", number::fixed(value_kept, 2));
    assert!(pays.contains("lose money") && pays.contains(&plain(&expected)), "{expected}: {pays}");
    let loses = part("10");
    assert!(loses.contains("which assumption would make it profitable"), "{loses}");
    assert!(loses.contains(&plain(&format!("above {}", number::fixed(value_kept, 2)))), "{loses}");
    // Two assumptions at once: where both are as assumed, what the decision gains; drawn again, no less.
    let map = |again: &str| {
        let page = study
            .page(&format!("decide/parts?value_kept=400&{on_all}&across=value_kept&down=save_rate&line_again={again}"));
        let here = page.split(" here ").nth(1).and_then(|rest| rest.split('>').nth(1)).expect("the place assumed");
        let figure = here.split('<').next().expect("a figure").replace('−', "-");
        let figure: String = figure.chars().filter(|c| !c.is_whitespace()).collect();
        figure.parse::<f64>().unwrap_or_else(|_| panic!("a number: {figure}"))
    };
    assert!(map("yes") >= map("no") && map("no") > 0.0, "{} {}", map("yes"), map("no"));
    let nobody = study.page("decide/parts?line=0&line_as=count");
    assert!(nobody.contains("Nobody is selected"), "{nobody}");

    let refused = study.http.get(&format!("/studies/{}/decide/parts?save_rate=130", study.id));
    assert!(refused.status == 422 && plain(&refused.text).contains("between 0 and 100 %"), "{}", plain(&refused.text));
    let other = Study::begun(&members(300, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(other.http.get(&format!("/studies/{}/decide/parts", study.id + 1_000)).status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn amounts_of_each_customer_are_weighed_and_lists_are_decided_on_by_them() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;

    // A formula that cannot be is refused with its amount, the place and the reason; nothing is kept.
    for (typed, says) in [
        ("0.5 * anual_fee", "“Customer margin a year”: There is no column “anual_fee”"),
        ("plan_tier", "an amount has to be a number"),
        ("-annual_fee", "must be an amount of 0 or more"),
        ("annual_fee / 0", "no value for any of these customers"),
    ] {
        let refused = study.http.submit(&format!("/studies/{}/decide", study.id), &[("value_kept", typed)]);
        assert_eq!(refused.status, 422, "{typed}");
        assert!(plain(&refused.text).contains(says), "{typed}: {}", plain(&refused.text));
    }
    assert_eq!(study.state().await.policy, None);

    let by_customer =
        [("value_kept", "0.8 * annual_fee"), ("by", "gain"), ("population", "3 000"), ("currency", "EUR")];
    assert_eq!(study.post("decide", &by_customer), 303);
    let chosen = study.state().await.policy.expect("a policy");
    assert_eq!((chosen.policy.rule.by, chosen.currency.as_str()), (Order::Gain, "EUR"));

    // What it promises is what adding up the judged customers gives.
    let model = &study.store.candidates(study.id, &[]).await.expect("models")[0];
    let told = study.store.judgement(model.id).await.expect("read").expect("judged");
    let mut brought = 0.0;
    for ((&row, &p), &left) in told.positions.iter().zip(&told.probability).zip(&told.event) {
        let value = 0.8 * people[row as usize].annual_fee;
        let gain = |p: f64| p * (0.25 * (value - 25.0) - 2.0) - (1.0 - p) * (0.3 * 25.0 + 2.0);
        if gain(p) > 0.0 {
            brought += gain(f64::from(u8::from(left))) * 3_000.0 / told.event.len() as f64;
        }
    }
    let promised = chosen.promised.expect("worked out").profit;
    assert!((promised - brought).abs() < 1e-6 * brought.abs(), "{promised} {brought}");
    let page = study.page("decide");
    for says in [
        "highest incremental profit on the left",
        "each customer by their own incremental profit",
        "EUR for 3 000 customers",
        "incremental profit ≥",
    ] {
        assert!(page.contains(says), "{says}: {page}");
    }

    // The sealed test, and a list, are decided on in the same way.
    assert_eq!(study.post("decide/confirm", &[]), 303);
    until("the seal is opened", || async { store_confirmed(&study).await }).await;
    let page = study.page("decide");
    assert!(page.contains("expected on validation customers") && page.contains("EUR for 3 000 customers"), "{page}");
    let fresh = members(400, SEED + 5, FIRST_RENEWAL);
    let table = study.scored("fresh.csv", &renewals_csv(&fresh)).await;
    let (p, decision) = (table.column(PROBABILITY).expect("told"), table.column(DECISION).expect("decided"));
    let fee = table.column("annual_fee").expect("a fee");
    for row in 0..table.rows() {
        let (p, value) = (p.number(row).expect("a number"), 0.8 * fee.number(row).expect("a number"));
        let gain = p * (0.25 * (value - 25.0) - 2.0) - (1.0 - p) * (0.3 * 25.0 + 2.0);
        // The file has the probability to a few digits.
        if gain.abs() > 0.01 {
            assert_eq!(decision.text(row).as_deref(), Some(if gain > 0.0 { "act" } else { "leave" }), "{row} {gain}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_customer_is_given_the_offer_that_gains_most_on_them_or_none() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    assert!(study.page("decide").contains("More than one offer"));

    let base = [
        ("value_kept", "0.8 * annual_fee"),
        ("save_rate", "30"),
        ("offer_cost", "40"),
        ("stayers_take", "30"),
        ("contact_cost", "2"),
        ("by", "gain"),
        ("population", "2 000"),
        ("offers", "2"),
        ("offer_name", "fee holiday"),
        ("offer2_save_rate", "12"),
        ("offer2_offer_cost", "3"),
    ];
    let with = |more: &[(&'static str, &'static str)]| [&base[..], more].concat();
    for (more, says) in [
        (vec![], "Offer 2 has amounts, but no name"),
        (vec![("offer2_name", "Fee Holiday")], "Two offers are called “Fee Holiday”"),
        (vec![("offer2_name", "letter"), ("offer2_contact_cost", "cheap")], "There is no column “cheap”"),
        (vec![("offer2_name", "letter"), ("offer2_contact_cost", "-1")], "“letter”: “Cost of contact” must be"),
    ] {
        let refused = study.http.submit(&format!("/studies/{}/decide", study.id), &with(&more));
        assert_eq!(refused.status, 422, "{more:?}");
        assert!(plain(&refused.text).contains(says), "{more:?}: {}", plain(&refused.text));
    }
    assert_eq!(study.post("decide", &with(&[("offer2_name", "<letter> 50 % & more")])), 303);
    let chosen = study.state().await.policy.expect("a policy");
    assert_eq!(chosen.policy.offers.names(), ["fee holiday", "<letter> 50 % & more"]);

    // What it promises, and who is given what, is what adding up the judged customers gives.
    let gains = |fee: f64, p: f64| {
        let of = |save: f64, cost: f64| p * (save * (0.8 * fee - cost) - 2.0) - (1.0 - p) * (0.3 * cost + 2.0);
        [of(0.3, 40.0), of(0.12, 3.0)]
    };
    let model = &study.store.candidates(study.id, &[]).await.expect("models")[0];
    let told = study.store.judgement(model.id).await.expect("read").expect("judged");
    let each = 2_000.0 / told.event.len() as f64;
    let (mut brought, mut given) = (0.0, [0.0; 2]);
    for ((&row, &p), &left) in told.positions.iter().zip(&told.probability).zip(&told.event) {
        let fee = people[row as usize].annual_fee;
        let expected = gains(fee, p);
        let best = usize::from(expected[1] > expected[0]);
        if expected[best] > 0.0 {
            brought += gains(fee, f64::from(u8::from(left)))[best] * each;
            given[best] += each;
        }
    }
    let promised = chosen.promised.expect("worked out").profit;
    assert!((promised - brought).abs() < 1e-6 * brought.abs(), "{promised} {brought}");
    assert!(given.iter().all(|n| *n > 100.0), "both offers suit somebody: {given:?}");
    let page = study.page("decide");
    for (at, n) in given.iter().enumerate() {
        let says = format!("<span data-given=\"{at}\">{}</span>", number::fixed(*n, 0));
        assert!(page.contains(&says), "{says}: {page}");
    }
    for says in
        ["each customer the most profitable offer, or none", "more than the best single offer", "&#60;letter&#62;"]
    {
        assert!(page.contains(says), "{says}: {page}");
    }
    // Another page reads what was kept; the rule of one offer alone can be taken from the table.
    let sheet = plain(&study.page("decide/sheet"));
    assert!(sheet.contains("fee holiday") && sheet.contains("given to"), "{sheet}");
    assert!(plain(&study.page("decide/customer")).contains("Most profitable offer"));
    let alone = page
        .split("alone, by incremental profit of each customer")
        .nth(1)
        .and_then(|rest| rest.split("href=\"").nth(1));
    let href = alone.and_then(|rest| rest.split('"').next()).expect("a link").replace("&#38;", "&");
    let one = study.http.get(&href).text;
    assert!(one.contains("More than one offer") && one.contains("Keep this policy"), "{one}");

    // A list says who is given what, and the sealed test is of the whole policy.
    assert_eq!(study.post("decide/confirm", &[]), 303);
    until("the seal is opened", || async { store_confirmed(&study).await }).await;
    let fresh = members(400, SEED + 5, FIRST_RENEWAL);
    let table = study.scored("fresh.csv", &renewals_csv(&fresh)).await;
    let text = |column: &str, row: usize| table.column(column).expect("there").text(row);
    let fee = table.column("annual_fee").expect("a fee");
    for row in 0..table.rows() {
        let p = table.column(PROBABILITY).expect("told").number(row).expect("a number");
        let expected = gains(fee.number(row).expect("a number"), p);
        let best = usize::from(expected[1] > expected[0]);
        // The file has the probability to a few digits.
        if expected[best].abs() > 0.01 && (expected[0] - expected[1]).abs() > 0.01 {
            let acts = expected[best] > 0.0;
            assert_eq!(text(DECISION, row).as_deref(), Some(if acts { "act" } else { "leave" }), "{row}");
            let name = acts.then(|| ["fee holiday", "<letter> 50 % & more"][best]);
            assert_eq!(text(OFFER, row).as_deref(), name, "{row} {expected:?}");
        }
    }

    // Left out again, there is one offer.
    assert_eq!(study.post("decide", &with(&[("offer2_name", "letter"), ("offer2_out", "yes")])), 303);
    assert!(study.state().await.policy.expect("a policy").policy.offers.is_single());
}

async fn store_confirmed(study: &Study) -> Option<()> {
    study.store.study(1, study.id).await.ok()?.confirmation.map(|_| ())
}

#[tokio::test(flavor = "multi_thread")]
async fn limits_and_another_event_rate_hold_and_are_kept() {
    let study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    for (field, value) in [
        ("most_customers", "-3"),
        ("least_precision", "140"),
        ("event_rate", "0"),
        ("event_rate", "100"),
        ("currency", "a long currency"),
        ("by", "size"),
        ("line_as", "moons"),
    ] {
        let refused = study.post("decide", &[(field, value), ("line", "3")]);
        assert_eq!(refused, 422, "{field} = {value}");
    }
    let limits = [("most_customers", "120"), ("most_money", "1500"), ("line", "100"), ("line_as", "share")];
    assert_eq!(study.post("decide", &limits), 303);
    let acted: f64 = live(&study.page("decide"), "acted").parse().expect("a number");
    assert!(acted > 60.0 && acted <= 120.0, "no more than the limits allow: {acted}");
    let chosen = study.state().await.policy.expect("a policy");
    assert_eq!(chosen.policy.rule.limits, [CutOff::Customers(120.0), CutOff::Budget(1500.0)]);

    // With half as many leavers there, the same customers are half as likely to leave.
    let there = "decide?line=100&line_as=share&event_rate=9&most_customers=&most_money=&least_precision=";
    assert_eq!(live(&study.page(there), "events"), "90", "of 1 000");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_policy_of_an_earlier_version_still_stands() {
    let mut study = Study::begun(&members(2_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    study.server.kill();
    // As the version before left it.
    let earlier = format!(
        r#"{{"model_id": {model}, "policy": {{"economics": {{"kind": "churn", "value_kept": 146, "save_rate": 0.3,
            "offer_cost": 24, "stayers_take": 0.35, "contact_cost": 2.4}}, "cut_off": 0.21}}, "population": 3000}}"#
    );
    study
        .server
        .run_sql(&format!(
            "DELETE FROM seaql_migrations WHERE version = 'm0009_policy';
             ALTER TABLE list ADD COLUMN cut_off double precision NOT NULL DEFAULT 0.4, DROP COLUMN policy;
             UPDATE study SET state = jsonb_set(state, '{{policy}}', '{earlier}'), test_openings = 1,
                 confirmation = '{{\"model_id\": {model}, \"cut_off\": 0.21, \"confusion\": {{\"hits\": 1, \"false_alarms\": 1,
                 \"missed\": 1, \"left_alone\": 1}}, \"area_under_roc\": 0.7, \"promised\": 900, \"found\": 800, \"low\": 700,
                 \"high\": 900}}';
             INSERT INTO list (study_id, table_id, model_id, report, state)
                 SELECT {0}, table_id, {model}, '{{\"rows\": 1, \"inputs\": [], \"unused\": []}}', 'matched' FROM study WHERE id = {0};",
            study.id
        ))
        .await;
    study.server.run().await;
    let chosen = study.state().await.policy.expect("a policy");
    assert_eq!((&chosen.policy.rule, chosen.promised), (&Rule::cut_off(0.21), None));
    assert_eq!(chosen.population.customers, Some(3_000.0));
    assert!((chosen.policy.economics.typical().payoffs().act.event - 34.2).abs() < 1e-9);
    let page = study.page("decide");
    assert!(page.contains("expected on") && page.contains("900"), "what the sealed test said: {page}");
    assert_eq!(
        study.store.lists(study.id).await.expect("lists")[0].decided_by().expect("read").policy.rule,
        Rule::cut_off(0.4)
    );
    // Kept anew, it promises what it is worth.
    assert_eq!(study.post("decide", &[("value_kept", "150")]), 303);
    assert!(study.state().await.policy.expect("a policy").promised.expect("worked out").profit > 0.0);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_account_of_a_customer_adds_up_and_follows_what_is_changed() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    assert!(study.page("decide/customer").contains("Nobody to try yet"));
    study.fitted("boosted").await;
    assert_eq!(study.post("decide", &[]), 303);
    let rows = |page: &str| -> Vec<f64> {
        let cells = page.split("<td class=\"figure\">").skip(1).map(|cell| cell.split('<').next().unwrap_or_default());
        cells.filter_map(|cell| cell.replace('−', "-").replace('+', "").parse().ok()).collect()
    };
    for row in [3, 40, 777] {
        let page = study.page(&format!("decide/customer?row={row}"));
        let account = page.split("<tfoot>").next().expect("an account");
        let total = page.split("together").nth(1).map(rows).and_then(|found| found.first().copied()).expect("a total");
        let parts: Vec<f64> = rows(account.split("everybody").nth(1).expect("a beginning"));
        let sum: f64 = parts.iter().sum();
        // Every line is rounded to two decimals.
        assert!((sum - total).abs() < 0.0051 * (parts.len() + 1) as f64, "{row}: {parts:?} {total}");
        assert!(page.contains("Of the 5 most similar real customers"), "{row}");
    }
    // Its values are those of the row, and what is typed in their place counts.
    let model = &study.store.candidates(study.id, &[]).await.expect("models")[0];
    let model = study.store.model(model.id).await.expect("stored").fitted().expect("a model");
    let at = model.inputs().position(|input| input.name == "declined_claims").expect("a column");
    let probability = |page: &str| -> f64 {
        let last = page.split("class=\"grand\"").nth(1).expect("a foot").split("<strong>").nth(1).expect("a figure");
        last.split('<').next().expect("text").parse().expect("a number")
    };
    let quiet = study.page(&format!("decide/customer?row=40&v{at}=0"));
    let angry = study.page(&format!("decide/customer?row=40&v{at}=4"));
    assert!(probability(&angry) > probability(&quiet) + 0.02, "{} {}", probability(&angry), probability(&quiet));
    let was = format!("was {}", people[40].declined_claims);
    assert!(angry.contains(&was) || people[40].declined_claims == 4, "{was}");
    // What never occurs is marked, what cannot be is refused, and nobody is there beyond the last row.
    let odd = study.page(&format!("decide/customer?row=40&v{at}=900"));
    assert!(odd.contains("outside the 0 to 4 seen in training"), "{odd}");
    let refused = study.http.get(&format!("/studies/{}/decide/customer?row=40&v{at}=many", study.id));
    assert!(refused.status == 422 && plain(&refused.text).contains("“declined_claims” is a number"));
    assert_eq!(study.http.get(&format!("/studies/{}/decide/customer?row=2500", study.id)).status, 404);
    assert!(study.page("decide/customer?row=typical").contains("a typical customer"));
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_are_counted_as_the_policy_treats_them_and_stand_on_the_sheet() {
    let people = members(2_000, SEED, FIRST_MEMBER);
    let study = Study::begun(&people, "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    assert!(study.page("decide/groups").contains("No column to compare groups by yet"));
    assert!(study.page("decide/sheet").contains("No policy yet"));
    study.fitted("scorecard").await;
    assert_eq!(study.post("decide", &[("line", "0.2"), ("population", "3000")]), 303);

    let model = &study.store.candidates(study.id, &[]).await.expect("models")[0];
    let told = study.store.judgement(model.id).await.expect("read").expect("judged");
    let page = study.page("decide/groups?column=plan_tier");
    for tier in ["Basic", "Plus", "Complete"] {
        let of = |at: &usize| people[told.positions[*at] as usize].tier == tier;
        let all: Vec<usize> = (0..told.event.len()).filter(of).collect();
        let acted = all.iter().filter(|&&at| told.probability[at] >= 0.2).count();
        let row = page.split(&format!("<th scope=\"row\">{tier}</th>")).nth(1).expect("a rung");
        let row = row.split("</tr>").next().expect("its end");
        let share = plain(&number::percent(acted as f64 / all.len() as f64));
        assert!(
            row.contains(&share) && row.contains(&plain(&number::count(all.len() as u64))),
            "{tier} {share}: {row}"
        );
    }
    assert!(page.contains("owner_age_band"), "the sensitive column is always there");
    let refused = study.http.get(&format!("/studies/{}/decide/groups?column=nothing", study.id));
    assert!(refused.status == 422 && plain(&refused.text).contains("no column “nothing”"));

    let sheet = study.page("decide/sheet");
    for says in [
        "The event: cancelled is “yes”.",
        "Make the offer to customers where P ≥ 0.200",
        "for 3 000 customers",
        "The sealed test set has not been opened",
        "Save rate",
        "one cut-off, at its best",
        "owner_age_band",
        "Approved by",
    ] {
        assert!(sheet.contains(says), "{says}: {sheet}");
    }
}

/// Asks for something that is found out in the background, and waits until its page says so.
async fn found_out(study: &Study, ask: (&str, &[(&str, &str)]), page: &str, says: &str) -> String {
    assert_eq!(study.post(ask.0, ask.1), 303);
    until(says, || async { Some(study.page(page)).filter(|page| page.contains(says)) }).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_model_goes_by_is_found_out_and_is_of_the_policy_it_was_found_for() {
    let study = Study::begun(&members(4_000, SEED, FIRST_MEMBER), "yes").await;
    assert!(study.page("decide/why").contains("No model yet"));
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.fitted("scorecard").await;
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id.to_string();
    assert!(study.page("decide/why").contains("Which columns are important for scorecard?"));

    // Without a policy there is no money to lose.
    let page = found_out(&study, ("decide/why", &[("model", &model)]), "decide/why", "Most important: ").await;
    assert!(page.contains("of AUC (ROC)") && !page.contains("profit lost"), "{page}");
    assert_eq!(study.post("decide", &[("population", "3 000"), ("currency", "EUR")]), 303);
    assert!(study.page("decide/why").contains("There was no policy yet"));
    let page = found_out(&study, ("decide/why", &[("model", &model)]), "decide/why", "profit lost").await;
    assert!(page.contains("EUR for 3 000 customers") && page.contains("months_since_visit"), "{page}");
    assert!(page.contains("Excluded from the models: exit_survey_sent"), "what was left out: {page}");
    assert!(page.contains("Points; a customer’s points add up"), "what it consists of: {page}");

    // A column and two together are looked at by address; those that do not go in are refused.
    let page = study.page("decide/why?column=declined_claims&down=tenure_months&across=fee_rise_pct");
    assert!(page.contains("Partial dependence on declined_claims: from"), "{page}");
    assert!(page.contains("Partial dependence on tenure_months (down) and fee_rise_pct (across)"), "{page}");
    for (query, says) in [
        ("column=exit_survey_sent", "“exit_survey_sent” does not go into scorecard"),
        ("down=species&across=species", "Choose two different columns"),
    ] {
        let refused = study.http.get(&format!("/studies/{}/decide/why?{query}", study.id));
        assert!(refused.status == 422 && plain(&refused.text).contains(says), "{query}: {}", plain(&refused.text));
    }
    let stranger = study.http.get(&format!("/studies/{}/decide/why?model={}", study.id, 999));
    assert_eq!((stranger.status, study.post("decide/why", &[("model", "999")])), (404, 404));

    assert_eq!(study.post("decide", &[("population", "3 000"), ("currency", "EUR"), ("save_rate", "60")]), 303);
    assert!(study.page("decide/why").contains("The policy has been changed since"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_stands_in_for_a_sensitive_column_can_be_decided_without() {
    let study = Study::begun(&members(4_000, SEED, FIRST_MEMBER), "yes").await;
    assert_eq!(study.post("prepare/leave-out", &[]), 303);
    study.looked_at().await;
    study.fitted("logistic").await;
    assert!(!study.page("decide/groups").contains("What would it cost"), "there is no policy yet");
    assert_eq!(study.post("decide/groups/without", &[]), 422);
    assert_eq!(study.post("decide", &[("save_rate", "60")]), 303);
    let page = study.page("decide/groups");
    assert!(page.contains("What would it cost to exclude retired_discount?"), "{page}");
    let page =
        found_out(&study, ("decide/groups/without", &[]), "decide/groups", "Ablation: without retired_discount").await;
    assert!(page.contains("By owner_age_band, without retired_discount") && page.contains("90 % CI"), "{page}");

    // It is what a model made without the column decides on the same customers.
    let model = study.store.candidates(study.id, &[]).await.expect("models")[0].id;
    let found = study.store.tried_without(model).await.expect("read").expect("found");
    let told = study.store.judgement(model).await.expect("read").expect("judged");
    let worth = |event: bool| found.chosen.policy.economics.typical().payoffs().gain().happened(event);
    let line = study.state().await.policy.expect("a policy").policy.rule;
    let CutOff::Least(least) = line.line else { panic!("a cut-off: {line:?}") };
    let acted = told.probability.iter().zip(&told.event).filter(|(p, _)| **p >= least);
    let with = acted.map(|(_, &event)| worth(event)).sum::<f64>() * 1_000.0 / told.event.len() as f64;
    assert!((found.gain.profit + found.less.profit - with).abs() < 1e-6 * with.abs(), "{found:?} {with}");
    assert_eq!(study.post("decide", &[("save_rate", "70")]), 303);
    assert!(study.page("decide/groups").contains("these are the earlier figures"));
}

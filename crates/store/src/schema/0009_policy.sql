-- A policy says by what rule customers are acted on and whom the money is for, and economics look
-- ahead for years.
CREATE FUNCTION pg_temp.with_rule(chosen jsonb) RETURNS jsonb LANGUAGE sql AS $$
    SELECT jsonb_build_object(
        'model_id', chosen -> 'model_id',
        'policy', jsonb_build_object(
            'economics', CASE chosen #>> '{policy,economics,kind}'
                WHEN 'churn' THEN '{"years": 1, "discount": 0}'::jsonb ELSE '{}'::jsonb
            END || (chosen #> '{policy,economics}'),
            'rule', jsonb_build_object(
                'by', 'probability', 'line', jsonb_build_object('least', chosen #> '{policy,cut_off}')
            )
        ),
        'population', jsonb_build_object('customers', chosen -> 'population'),
        -- Nobody wrote it down; it is when the policy is kept anew.
        'promised', NULL
    )
$$;
UPDATE study SET state = jsonb_set(state, '{policy}', pg_temp.with_rule(state -> 'policy'))
WHERE state #> '{policy,policy,cut_off}' IS NOT NULL;
UPDATE ledger_entry SET before = jsonb_set(before, '{policy}', pg_temp.with_rule(before -> 'policy'))
WHERE before #> '{policy,policy,cut_off}' IS NOT NULL;

-- A list is decided on by a whole policy, a pronoia_core::study::ChosenPolicy; of older lists only
-- the cut-off is known.
ALTER TABLE list ADD COLUMN policy jsonb;
UPDATE list SET policy = pg_temp.with_rule(jsonb_build_object(
    'model_id', model_id,
    'policy', jsonb_build_object(
        'economics', '{"kind": "plain", "act_event": 0, "act_other": 0, "leave_event": 0, "leave_other": 0}'::jsonb,
        'cut_off', cut_off
    )
));
ALTER TABLE list ALTER COLUMN policy SET NOT NULL, DROP COLUMN cut_off;

-- What a search for profit counts.
UPDATE search SET search = jsonb_set(search, '{plan,measure,profit}', jsonb_build_object(
    'event', search #> '{plan,measure,profit,act_event}', 'other', search #> '{plan,measure,profit,act_other}'
)) WHERE search #> '{plan,measure,profit,act_event}' IS NOT NULL;

-- What the sealed test said was counted per 1 000 customers, of a policy of which the cut-off alone
-- was written down.
UPDATE study SET confirmation = (confirmation - 'model_id' - 'cut_off') || jsonb_build_object(
    'chosen', pg_temp.with_rule(jsonb_build_object(
        'model_id', confirmation -> 'model_id',
        'policy', jsonb_build_object(
            'economics', '{"kind": "plain", "act_event": 0, "act_other": 0, "leave_event": 0, "leave_other": 0}'::jsonb,
            'cut_off', confirmation -> 'cut_off'
        )
    ))
) WHERE confirmation #> '{cut_off}' IS NOT NULL;

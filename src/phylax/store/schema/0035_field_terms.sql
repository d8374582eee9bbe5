-- The field's own terms for tables and columns. Nothing that is hashed is altered: neither the texts
-- of the two chains nor the rows that a run's evidence stands on.

ALTER TABLE audit RENAME COLUMN deed TO action;
ALTER TABLE audit_parts RENAME COLUMN deed TO audit_id;
ALTER TABLE erased_deeds RENAME COLUMN deed TO audit_id;
ALTER TABLE erased_deeds RENAME COLUMN by_deed TO by_audit_id;
ALTER TABLE erased_deeds RENAME TO erased_audit;

ALTER TABLE keeping RENAME TO data_retention;
ALTER TABLE generation RENAME TO restore_epoch;
ALTER TABLE left_agents RENAME TO former_agents;
ALTER TABLE left_again RENAME TO repeat_leftovers;
ALTER TABLE repeat_leftovers RENAME COLUMN times TO occurrences;
ALTER TABLE settings_looks RENAME TO settings_surveys;
ALTER TABLE acted RENAME TO action_results;
ALTER TABLE action_results RENAME COLUMN of_what TO target;
ALTER TABLE checks RENAME COLUMN of_what TO target;
ALTER TABLE checks RENAME COLUMN settled_word TO settled_comment;

ALTER TABLE advice RENAME COLUMN fate TO status;
ALTER TABLE advice RENAME COLUMN word TO comment;
ALTER TABLE answers RENAME COLUMN word TO comment;
ALTER TABLE attention RENAME COLUMN word TO comment;
ALTER TABLE attention RENAME COLUMN off_until TO snoozed_until;
ALTER TABLE attention RENAME COLUMN times TO occurrences;
ALTER TABLE attention RENAME COLUMN found TO finding;
ALTER TABLE attention RENAME COLUMN told_grade TO notified_grade;
ALTER TABLE changes RENAME COLUMN word TO comment;
ALTER TABLE changes RENAME COLUMN of_person TO person;
ALTER TABLE changes RENAME COLUMN drift_told TO drift_notified;
ALTER TABLE consents RENAME COLUMN word TO comment;
ALTER TABLE standing_consents RENAME COLUMN word TO comment;
ALTER TABLE postponed RENAME COLUMN word TO comment;
ALTER TABLE run_steps RENAME COLUMN word TO comment;
ALTER TABLE shared_changes RENAME COLUMN word TO comment;

ALTER TABLE forgettings RENAME COLUMN asked_at TO requested_at;
ALTER TABLE forgettings RENAME COLUMN asked_by TO requested_by;
ALTER TABLE reports RENAME COLUMN asked TO request;
ALTER TABLE clients RENAME COLUMN reach_by TO contact_by;
ALTER TABLE machines RENAME COLUMN stands_at TO location;
ALTER TABLE machines RENAME COLUMN looked_at TO surveyed_at;
ALTER TABLE machines RENAME COLUMN can_go TO removable;
ALTER TABLE machines RENAME COLUMN waits_for_yes TO needs_approval;
ALTER TABLE volumes RENAME COLUMN can_go TO removable;
ALTER TABLE profiles RENAME COLUMN looked_at TO surveyed_at;
ALTER TABLE surveys RENAME COLUMN look TO kind;
ALTER TABLE survey_sums RENAME COLUMN second TO is_follow_up;
ALTER TABLE starts RENAME COLUMN told TO payload;
ALTER TABLE protections RENAME COLUMN what TO pattern;
ALTER TABLE protection_covers RENAME COLUMN what TO pattern;
ALTER TABLE protection_covers RENAME COLUMN is_there TO is_present;
ALTER TABLE run_evidence RENAME COLUMN what TO kind;

ALTER TABLE holds RENAME COLUMN until_at TO expires_at;
ALTER TABLE holds RENAME COLUMN gone_count TO deleted_count;
ALTER TABLE holds RENAME COLUMN gone_size TO deleted_size;
ALTER TABLE held_items RENAME COLUMN fate TO status;
ALTER TABLE held_items RENAME COLUMN fate_at TO status_at;

ALTER TABLE runs RENAME COLUMN takes TO expected_seconds;
ALTER TABLE runs RENAME COLUMN until_at TO start_before;
ALTER TABLE runs RENAME COLUMN at_hand TO awaits_person;
ALTER TABLE runs RENAME COLUMN act TO action;
ALTER TABLE runs RENAME COLUMN asked_by TO agreed_survey_id;
ALTER TABLE runs RENAME COLUMN second_look_id TO follow_up_survey_id;

ALTER TABLE visits RENAME COLUMN said TO reported_problem;
ALTER TABLE visits RENAME COLUMN came_along TO accessories;
ALTER TABLE visits RENAME COLUMN wanted_by TO due_on;
ALTER TABLE visits RENAME COLUMN ask_above TO approval_limit;
ALTER TABLE visits RENAME COLUMN loan TO loaner;
ALTER TABLE visits RENAME COLUMN back_from TO earlier_visit_id;
ALTER TABLE visits RENAME COLUMN whose TO turn;
ALTER TABLE visits RENAME COLUMN whom TO assignee_id;
ALTER TABLE visits RENAME COLUMN until TO follow_up_on;
ALTER TABLE ordered_parts RENAME COLUMN what TO item;
ALTER TABLE ordered_parts RENAME COLUMN from_whom TO supplier;
UPDATE visits SET turn = CASE turn WHEN 'ours' THEN 'us' WHEN 'the client''s' THEN 'client'
    ELSE 'supplier' END;

-- Texts that are read back as values, with the same terms.
UPDATE surveys SET lines = renamed_keys(lines,
    'goes=removable holds=total stays=kept looked_at=surveyed_at what=pattern') WHERE lines IS NOT NULL;
UPDATE survey_parts SET line = renamed_keys(line,
    'goes=removable holds=total stays=kept looked_at=surveyed_at what=pattern');
UPDATE outlooks SET outlook = renamed_keys(outlook, 'fills=fill_rate words=text');
UPDATE reports SET document = renamed_keys(document, 'words=alt_text');
UPDATE starts SET payload = renamed_keys(payload, 'rest=unattributed');
UPDATE trials SET judged = renamed_keys(judged,
    'looked_at=judged_after next_look=next_judged_after');
UPDATE programs SET read_as = renamed_keys(read_as, 'what=description of=person');
UPDATE settings_surveys SET seen = renamed_keys(seen,
    'of=person there=present may_set=writable');
UPDATE known_programs SET edit = renamed_keys(edit, 'what=description hangs=depends_on');
UPDATE setting_rules SET rule = renamed_keys(rule, 'want=value');
UPDATE rounds SET plan = renamed_keys(plan, 'cared_for_by=responsible_id');
UPDATE round_versions SET plan = renamed_keys(plan, 'cared_for_by=responsible_id');
UPDATE checks SET checked = renamed_keys(checked, 'of=target more=unlisted');
UPDATE runs SET progress = renamed_keys(progress, 'of_items=total_items of_size=total_size')
    WHERE progress IS NOT NULL;
UPDATE runs SET action = renamed_keys(action, 'gone_for_good=not_reinstallable')
    WHERE action IS NOT NULL;
UPDATE runs SET settings = renamed_keys(settings, 'of=person was=previous word=comment')
    WHERE settings IS NOT NULL;

-- Keys of settings and checks, and words for what needs attention.
UPDATE setting_rules SET setting = 'restore-points' WHERE setting = 'ways-back';
UPDATE changes SET setting = CASE setting WHEN 'ways-back' THEN 'restore-points'
    ELSE 'startup-programs' END WHERE setting IN ('ways-back', 'runs-by-itself');
UPDATE shared_changes SET setting = CASE setting WHEN 'ways-back' THEN 'restore-points'
    ELSE 'startup-programs' END WHERE setting IN ('ways-back', 'runs-by-itself');
UPDATE checks SET check_key = 'fragmentation' WHERE check_key = 'lie-of-files';
UPDATE checks SET checked = replace(checked, '"lie-of-files"', '"fragmentation"');
UPDATE runs SET checks = replace(checks, '"lie-of-files"', '"fragmentation"'),
    modes = replace(modes, '"lie-of-files"', '"fragmentation"'),
    settings = replace(settings, '"ways-back"', '"restore-points"');
UPDATE routine_versions SET steps = replace(steps, '"lie-of-files"', '"fragmentation"');
UPDATE settings_surveys SET seen = replace(seen, '"ways-back"', '"restore-points"');
UPDATE step_lengths SET step = replace(step, 'lie-of-files', 'fragmentation');
UPDATE attention SET cause = 'needs approval' WHERE cause = 'waits for a yes';
UPDATE attention SET subject = replace(subject, 'lie-of-files', 'fragmentation'),
    finding = replace(replace(replace(replace(finding,
        '"waits for a yes"', '"needs approval"'),
        '"see what runs by itself"', '"see startup programs"'),
        'lie-of-files', 'fragmentation'), 'ways-back', 'restore-points');

-- When a program is to run.
UPDATE program_rules SET rule = replace(replace(replace(replace(rule,
    '"from the start"', '"at start"'), '"may wait"', '"after start"'),
    '"when asked"', '"on demand"'), '"not at all"', '"off"');
UPDATE known_programs SET edit = replace(replace(replace(replace(edit,
    '"from the start"', '"at start"'), '"may wait"', '"after start"'),
    '"when asked"', '"on demand"'), '"not at all"', '"off"');
UPDATE runs SET settings = replace(replace(replace(replace(settings,
    '"from the start"', '"at start"'), '"may wait"', '"after start"'),
    '"when asked"', '"on demand"'), '"not at all"', '"off"');
UPDATE shared_changes SET intent = CASE intent WHEN 'from the start' THEN 'at start' WHEN 'may wait' THEN 'after start'
        WHEN 'when asked' THEN 'on demand' WHEN 'not at all' THEN 'off' ELSE intent END;
UPDATE changes SET
    before = CASE before WHEN 'from the start' THEN 'at start' WHEN 'may wait' THEN 'after start'
        WHEN 'when asked' THEN 'on demand' WHEN 'not at all' THEN 'off' ELSE before END,
    after = CASE after WHEN 'from the start' THEN 'at start' WHEN 'may wait' THEN 'after start'
        WHEN 'when asked' THEN 'on demand' WHEN 'not at all' THEN 'off' ELSE after END,
    drifted_to = CASE drifted_to WHEN 'from the start' THEN 'at start' WHEN 'may wait' THEN 'after start'
        WHEN 'when asked' THEN 'on demand' WHEN 'not at all' THEN 'off' ELSE drifted_to END
    WHERE setting = 'startup-programs';

-- Answers in the words of before, kept for two days for whoever asks the same again.
DELETE FROM idempotency;

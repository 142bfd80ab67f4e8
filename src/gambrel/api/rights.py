"""Who may do what: the right that each route asks for.

A route without an entry is refused to everybody, so that a new one cannot be open by accident.
"""

from __future__ import annotations

from typing import Final

OPEN: Final = "open"
"""What may be asked for by somebody who is not signed in."""
WITH_OWN_TOKENS: Final = "runner"
"""The part of the API that asks for a runner's token instead."""

READ: Final = "read"
PLAN: Final = "plan"
ADMINISTER: Final = "administer"

_BY_RIGHT: dict[str, str] = {
    OPEN: """
        session.show session.sign_in session.sign_in_with_password session.sign_out
        provider.to_provider provider.from_provider openapi.spec
    """,
    # Looking, and asking what would be: nothing is kept of it.
    READ: """
        table_files.show_table table_files.show_asked_table
        people.show_rules presence.tell presence.leave
        session.list_sessions session.end_one session.set_password
        plans.list_plans plans.show_plan plans.plan_file plans.show_week plans.show_night
        plans.show_run plans.show_findings plans.show_help plans.show_lanes plans.preview
        drafts.show
        estate.show_estate estate.estate_file estate.show_exposure estate.show_machine
        sources.list_sources inbox.show_inbox inbox.inbox_effect inbox.list_acceptances
        imports.preview_import
        paths.show_paths paths.show_loads paths.show_week_of_load paths.preview_loads
        paths.show_windows paths.show_reach paths.show_why paths.read_calendar paths.show_sizing
        paths.try_remedy
        jobs.list_jobs jobs.begin jobs.show_choices jobs.show_costs jobs.show_room_for_imagined
        jobs.look jobs.show_points jobs.show_room jobs.say jobs.show_split jobs.show_tradeoffs
        jobs.show_weeks jobs.list_templates timetables.read_timetable
        balance.list_computations balance.show_broken_rules balance.show_computation
        balance.show_scenario
        versions.list_adoptions versions.show_comparison versions.show_validation
        runs.show_ledger runs.ledger_file runs.ledger_jsonl runs.show_ledger_run runs.news
        runs.preview_order runs.show_forecast_errors runs.show_past_nights runs.show_past_night
        runs.show_outlook runs.show_report runs.show_learned_changes runs.show_learned_rates
        runs.show_learned_times runs.show_learned_ratios runs.show_failure_rates
        runs.show_learned_spread runs.show_runners runs.show_standing runs.show_tonight
        night_sheets.show_night_sheet night_sheets.night_sheet_file
        rehearsals.rehearse rehearsals.show_rehearsed_run
        recovery.show_points recovery.show_restore_in_a_night recovery.show_promises
        recovery.list_recoveries recovery.show_copies recovery.propose_recoveries
        recovery.rehearse recovery.simulate_recovery recovery.list_subjects
        restore_tests.show_restore_tests
        runway.show_runway runway.keep_it_below runway.show_growth runway.show_occupancy
        runway.occupancy_file runway.purchase_file
        runway.show_tiers
        mail.show_run_settings feeds.show_calendar feeds.show_server_scripts
    """,
    PLAN: """
        plans.begin_plan
        drafts.start drafts.rename drafts.share drafts.discard drafts.adopt
        drafts.carry_over drafts.duplicate drafts.add drafts.undo drafts.redo
        versions.go_back versions.restore
        estate.edit_facts imports.import_files
        sources.add_source sources.change_source sources.remove_source sources.set_secret
        sources.discover sources.cancel_discovery sources.check_access
        inbox.accept_differences inbox.dismiss_differences inbox.reopen_differences
        inbox.undo_acceptance inbox.bring_back inbox.set_standing_rule
        jobs.add_template jobs.forget_template
        balance.begin_balance balance.begin_confidence balance.begin_sweep
        balance.cancel_computation balance.resume_computation balance.stop_computation
        runs.give_order runs.confirm_order runs.take_back_order runs.set_clock runs.import_past_runs
        recovery.keep_recovery recovery.forget_recovery
        restore_tests.check_point restore_tests.order_tests restore_tests.set_rota
        restore_tests.clean_up
        runway.begin_nights_ahead runway.begin_purchase
        feeds.list_feeds feeds.make_feed feeds.end_feed
        mail.set_run_settings mail.show_server mail.show_outbox
    """,
    ADMINISTER: """
        people.list_people people.add_person people.change_person people.invite
        people.forget_password people.end_sessions
        people.list_tokens people.make_token people.end_token
        people.show_provider people.set_provider people.set_rules
        audit.show_trail audit.trail_file audit.trail_jsonl
        runs.add_runner runs.remove_runner
        mail.set_server mail.test_mail
        server.show_server server.show_data
    """,
}

RIGHTS: dict[str, str] = {
    endpoint: right for right, endpoints in _BY_RIGHT.items() for endpoint in endpoints.split()
}
"""By endpoint; those for runners are not among them."""

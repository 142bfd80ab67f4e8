# Reporting a scheduled backup of a server to Gambrel: source this file in a cron job's script.
#
#   . /etc/gambrel/report-run.sh
#   report_run gates gate-07 full tar -C / -cf /backup/gate-07.tar etc srv
#
# It runs the command and reports when it began, when it ended and how. The backup never fails
# because of the report: where Gambrel does not answer, the command's own status is what counts.
#
# GAMBREL_URL    where Gambrel is, such as https://plan.example.org
# GAMBREL_TOKEN  the token of a reporting script, made under Runs, Runner

_gambrel_now() { date -u +%Y-%m-%dT%H:%M:%SZ; }

_gambrel_post() {
  curl -sS --max-time 20 --retry 3 -o /dev/null -X POST "$GAMBREL_URL/api/v1/runner/events" \
    -H "Authorization: Bearer $GAMBREL_TOKEN" -H "Content-Type: application/json" \
    -d "{\"clock\": \"$(_gambrel_now)\", \"events\": [$1]}" || true
}

# report_run JOB MACHINE KIND COMMAND...
report_run() {
  job=$1 machine=$2 kind=$3
  shift 3
  due=$(_gambrel_now)
  id="$machine-$due-$$"
  run="\"job\": \"$job\", \"occurrence\": \"$due\""
  _gambrel_post "{\"id\": \"$id-began\", \"what\": \"run began\", \"at\": \"$due\", $run,
    \"kind\": \"$kind\", \"machines\": [\"$machine\"]},
    {\"id\": \"$id-start\", \"what\": \"machine started\", \"at\": \"$due\", $run,
    \"machine\": \"$machine\", \"kind\": \"$kind\"}"
  "$@"
  status=$?
  outcome=done reason=
  if [ "$status" -ne 0 ]; then
    outcome=failed reason="the command ended with status $status"
  fi
  end=$(_gambrel_now)
  _gambrel_post "{\"id\": \"$id-end\", \"what\": \"machine ended\", \"at\": \"$end\", $run,
    \"machine\": \"$machine\", \"kind\": \"$kind\", \"outcome\": \"$outcome\",
    \"reason\": \"$reason\", \"source_bytes\": ${GAMBREL_BYTES:-0}},
    {\"id\": \"$id-over\", \"what\": \"run ended\", \"at\": \"$end\", $run}"
  return "$status"
}

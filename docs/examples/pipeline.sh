#!/usr/bin/env bash
# Steps of a pipeline: MODEL as it is here beside MODEL as it was on the main branch.
#   pipeline.sh estate/model.toml origin/main results
# Leaves with the worst exit code of its steps (2: mistakes or warnings, 3: no plan meets every target); every step runs.
set -uo pipefail
model="$1" base="$2" results="$3"
mkdir -p "$results"
worst=0

step() {
  echo "== $1"
  shift
  "$@" || { code=$?; [ "$code" -gt "$worst" ] && worst=$code; }
}

# Findings, for a viewer of static analysis; warnings count.
step "check" echotally check "$model" --strict --format sarif -o "$results/findings.sarif"
# The month on every plan; is there one that meets every target?
step "project" echotally project "$model" --gate --format json -o "$results/after.json"

# The same month as it was, in a tree of its own, and what the change does to the cost: for the review.
before="$(mktemp -d)"
trap 'git worktree remove --force "$before" >/dev/null 2>&1 || rm -rf "$before"' EXIT
step "the model before" git worktree add --quiet --detach "$before" "$base"
step "project the model before" echotally project "$before/$model" --format json -o "$results/before.json"
step "compare" echotally compare "$results/before.json" "$results/after.json" --format markdown -o "$results/review.md"

[ -n "${REVIEW_SUMMARY:-}" ] && cat "$results/review.md" >> "$REVIEW_SUMMARY"
exit "$worst"

/** What the keys of a job may be, as every form offers it. */

export const CHAINS = [
  { value: "incremental", label: "fulls and incrementals" },
  { value: "differential", label: "fulls and differentials" },
  { value: "forever", label: "one full for ever" },
  { value: "full_only", label: "always full" },
];

export const VERIFIES = [
  { value: "none", label: "nothing" },
  { value: "checksum", label: "a checksum" },
  { value: "boot", label: "a boot test" },
];

export const WINDOW_ENDS = [
  { value: "stop", label: "what runs is stopped" },
  { value: "finish", label: "what has begun may finish" },
  { value: "run_on", label: "it runs on" },
];

export const NOTICES = [
  { value: "never", label: "nobody" },
  { value: "trouble", label: "on trouble only" },
  { value: "always", label: "after every run" },
];

/** What is typed between commas, each once. */
export const betweenCommas = (text: string) => [
  ...new Set(
    text
      .split(",")
      .map((each) => each.trim())
      .filter(Boolean),
  ),
];

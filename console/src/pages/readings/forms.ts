// What a file's name says of its form.
const FORMS = { csv: "csv", tsv: "tsv", tab: "tsv", json: "json" } as const;

/** The form of a file by its ending; NDJSON if that says nothing. */
export function formOf(name: string): "csv" | "tsv" | "json" | "ndjson" {
  const ending = name.toLowerCase().split(".").pop() ?? "";
  return ending in FORMS ? FORMS[ending as keyof typeof FORMS] : "ndjson";
}

// Choosing a file that is then sent: the same file can be chosen again once it was corrected.
import type { ChangeEvent } from "react";
import { ProblemError } from "../api/api";
import { Labelled } from "./parts";

export const RECORDS = ".ndjson,.jsonl,.json,.csv,.tsv,.tab";

export function FileField({
  label,
  hint,
  accept,
  set,
}: {
  label: string;
  hint: string;
  accept: string;
  set: (file: File | null) => void;
}) {
  return (
    <Labelled label={label} hint={hint}>
      <input
        className="field"
        type="file"
        accept={accept}
        onClick={(event) => {
          event.currentTarget.value = ""; // without this, choosing the same file again says nothing
        }}
        onChange={(event: ChangeEvent<HTMLInputElement>) => set(event.target.files?.[0] ?? null)}
      />
    </Labelled>
  );
}

/** The text of a file, or of a part of it; an error in words where it was changed or removed since it was chosen. */
export async function textOf(file: File, part: Blob = file): Promise<string> {
  try {
    return await part.text();
  } catch {
    throw new ProblemError({
      type: "about:blank",
      title: "File changed",
      status: 0,
      detail: `${file.name} was changed or removed since it was chosen`,
      instance: "",
      hint: "Choose it again",
      errors: [],
    });
  }
}

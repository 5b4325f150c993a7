/** What the ways of a device are called. */
export const WAY_WORDS: Record<string, string> = {
  stay: "stay as they are",
  take: "take what is offered",
  fix: "are fixed",
  except: "go on by exception",
  extend: "have paid servicing",
  replace: "are replaced",
};

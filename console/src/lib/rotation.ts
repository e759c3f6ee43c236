// Turn is a board that is shown for some seconds.
export interface Turn {
  board: string;
  seconds: number;
  made?: { kind: string; of: string };
}

const usual = 20;

// turnsOf reads which boards are shown in turn, such as safe-air:20,made/site/Kilnside:30.
export function turnsOf(show: string): Turn[] {
  return show
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean)
    .slice(0, 50)
    .map((part) => {
      const [, board, said] = /^(.*?)(?::(\d+))?$/.exec(part) ?? [];
      const seconds = Math.min(3600, Math.max(3, Number(said ?? usual)));
      const [made, kind, ...of] = board.split("/");
      return made === "made" && kind
        ? { board, seconds, made: { kind, of: decodeURIComponent(of.join("/")) } }
        : { board, seconds };
    });
}

// turnsTo writes them into an address.
export const turnsTo = (turns: readonly { board: string; seconds: number }[]) =>
  `/boards/made/in-turn?${new URLSearchParams({ show: turns.map((t) => `${t.board}:${t.seconds}`).join(",") })}`;

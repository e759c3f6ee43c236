import { CircleHelp } from "lucide-react";
import { Link } from "react-router";

// About leads from a page to the document that explains it.
export function About({ document, what }: { document: string; what: string }) {
  return (
    <Link
      to={`/documents/${document}`}
      aria-label={`About ${what}`}
      title={`About ${what}`}
      className="self-center text-muted hover:text-press"
    >
      <CircleHelp size="1.1em" />
    </Link>
  );
}

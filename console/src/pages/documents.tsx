import { useQuery } from "@tanstack/react-query";
import { marked } from "marked";
import { useEffect, useMemo, type MouseEvent } from "react";
import { NavLink, useLocation, useNavigate, useParams } from "react-router";
import { api, ask } from "../api/client";
import { Trouble } from "../components/parts";
import { useTitle } from "../lib/use";

// anchor is the name of a heading in an address.
const anchor = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/<[^>]+>|[^\p{L}\p{N}\s-]/gu, "")
    .trim()
    .replace(/\s+/g, "-");

// The pictures are of this console itself, and not served with the documents.
const withoutPictures = (text: string) => text.replace(/^!\[[^\]]*\]\([^)]*\)\s*$/gm, "");

// written turns a document into HTML. It is part of the service, so that its
// HTML is as much to be trusted as this page; links to other documents lead to
// their pages here.
function written(text: string): string {
  const html = marked.parse(withoutPictures(text), { async: false, gfm: true });
  return html
    .replace(/<h([1-4])>(.*?)<\/h\1>/g, (_, n: string, h: string) => `<h${n} id="${anchor(h)}">${h}</h${n}>`)
    .replace(
      /href="([a-z-]+)\.md(#[^"]*)?"/g,
      (_, name: string, hash: string | undefined) => `href="/documents/${name}${hash ?? ""}"`,
    )
    .replace(/<a href="\.\.\/[^"]*">(.*?)<\/a>/g, "<code>$1</code>")
    .replaceAll("<table>", '<div class="scroll" tabindex="0"><table>')
    .replaceAll("</table>", "</table></div>")
    .replaceAll("<pre>", '<pre tabindex="0">');
}

// The documents of the version that runs.
export default function DocumentsPage() {
  const { name = "running" } = useParams();
  const navigate = useNavigate();
  const { hash } = useLocation();
  const list = useQuery({
    queryKey: ["documents"],
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/documents")),
  });
  const document_ = useQuery({
    queryKey: ["documents", name],
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/documents/{name}", { params: { path: { name } } })),
  });
  useTitle(document_.data?.title ?? "Documents");
  const html = useMemo(() => written(document_.data?.text ?? ""), [document_.data]);
  useEffect(() => {
    if (html && hash) document.getElementById(decodeURIComponent(hash.slice(1)))?.scrollIntoView();
    else window.scrollTo(0, 0);
  }, [html, hash]);
  // Links between documents stay on the page.
  const click = (e: MouseEvent) => {
    const a = (e.target as HTMLElement).closest("a");
    const href = a?.getAttribute("href");
    if (!href?.startsWith("/documents/") || e.ctrlKey || e.metaKey) return;
    e.preventDefault();
    navigate(href);
  };
  return (
    <div className="grid gap-x-10 gap-y-4 pt-4 lg:grid-cols-[13rem_minmax(0,1fr)]">
      <nav
        aria-label="Documents"
        className="flex flex-wrap gap-x-4 gap-y-1 lg:sticky lg:top-4 lg:flex-col lg:self-start"
      >
        {list.data?.map((d) => (
          <NavLink
            key={d.name}
            to={`/documents/${d.name}`}
            className={({ isActive }) =>
              isActive || name === d.name
                ? "border-l-2 border-ink pl-2 font-semibold"
                : "border-l-2 border-transparent pl-2 text-muted hover:text-ink"
            }
          >
            {d.title}
          </NavLink>
        ))}
      </nav>
      {document_.error ? (
        <Trouble>{document_.error.message}</Trouble>
      ) : document_.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : (
        <article
          className="document max-w-[48rem] min-w-0"
          onClick={click}
          dangerouslySetInnerHTML={{ __html: html }}
        />
      )}
    </div>
  );
}

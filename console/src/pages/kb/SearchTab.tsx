import { type FormEvent, useRef, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CheckBox } from "../../components/forms";
import { Failure } from "../../components/text";
import { useKb } from "./KbPage";
import { DEFAULTS, SearchForm, type SearchSettings } from "./SearchForm";
import { Results, type SearchResult } from "./SearchResults";

export function SearchTab() {
  const { api, path, documents } = useKb();
  const editions = useResource<Schemas["Page_EditionOut_"]>(`${api}/editions`);
  const [question, setQuestion] = useState("");
  const [limit, setLimit] = useState(10);
  const [tag, setTag] = useState("");
  const [document, setDocument] = useState("");
  const [settings, setSettings] = useState<SearchSettings[]>([DEFAULTS]);
  const [found, setFound] = useState<SearchResult[]>([]);
  /** The number of the latest search, 0 before any; after one, changed settings search again. */
  const latest = useRef(0);
  const [explained, setExplained] = useState(false);
  const [error, setError] = useState<string | null>(null);
  const tags = [
    ...new Set(
      (documents ?? []).flatMap((item) =>
        Object.entries(item.tags).map(([key, value]) => `${key}=${value}`),
      ),
    ),
  ].sort();

  const search = async (all: SearchSettings[], explain = explained) => {
    if (!question.trim()) return;
    const [key, ...value] = tag.split("=");
    const ask = (setting: SearchSettings) =>
      send<SearchResult>("POST", `${api}/search`, {
        question,
        mode: setting.mode,
        limit,
        keyword_weight: setting.weight === null ? null : setting.weight / 100,
        prefer_newer: setting.newer,
        depth: setting.deep ? "deep" : "fast",
        join_neighbours: setting.joined,
        per_document: setting.perDocument,
        edition: setting.edition,
        tags: tag ? { [key!]: value.join("=") } : {},
        documents: document ? [document] : null,
        explain,
      });
    // A late response of an earlier search must not replace a later one.
    const mine = ++latest.current;
    try {
      const hits = await Promise.all(all.map(ask));
      if (mine !== latest.current) return;
      setFound(hits);
      setError(null);
    } catch (problem) {
      if (mine === latest.current) setError((problem as Error).message);
    }
  };
  const change = (all: SearchSettings[]) => {
    setSettings(all);
    if (latest.current) void search(all);
  };
  const toggleExplained = (explain: boolean) => {
    setExplained(explain);
    if (latest.current) void search(settings, explain);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void search(settings);
  };
  const comparing = settings.length > 1;

  return (
    <>
      <form className="mb-3 flex flex-wrap gap-2.5" onSubmit={submit} role="search">
        <input
          className="input min-w-60 flex-1"
          aria-label="Search"
          placeholder="What would your users ask?"
          required
          value={question}
          onChange={(e) => setQuestion(e.target.value)}
        />
        <select
          className="select w-auto max-w-48"
          aria-label="Document"
          value={document}
          onChange={(e) => setDocument(e.target.value)}
        >
          <option value="">All documents</option>
          {documents?.map((item) => (
            <option key={item.id} value={item.id}>
              {item.title}
            </option>
          ))}
        </select>
        {tags.length > 0 && (
          <select
            className="select w-auto"
            aria-label="Tag"
            value={tag}
            onChange={(e) => setTag(e.target.value)}
          >
            <option value="">All tags</option>
            {tags.map((item) => (
              <option key={item}>{item}</option>
            ))}
          </select>
        )}
        <select
          className="select w-auto"
          aria-label="Number of passages"
          value={limit}
          onChange={(e) => setLimit(Number(e.target.value))}
        >
          {[5, 10, 20, 50].map((n) => (
            <option key={n} value={n}>
              {n} passages
            </option>
          ))}
        </select>
        <button type="submit" className="btn btn-primary">
          Search
        </button>
      </form>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2 text-[13px]">
        <span className="soft">
          <code>"a phrase"</code> as written · <code>+word</code> with it · <code>-word</code>{" "}
          without it · <code>begin*</code>
        </span>
        <CheckBox kind="toggle" className="ml-auto" checked={explained} onChange={toggleExplained}>
          Explain the scores
        </CheckBox>
        <CheckBox
          kind="toggle"
          checked={comparing}
          onChange={(checked) =>
            change(checked ? [settings[0]!, { ...settings[0]!, mode: "lexical" }] : [settings[0]!])
          }
        >
          Compare two settings
        </CheckBox>
      </div>
      <Failure message={error} />
      <div className={`grid items-start gap-5 ${comparing ? "min-[900px]:grid-cols-2" : ""}`}>
        {settings.map((setting, index) => (
          <section key={index} aria-label={comparing ? `Setting ${"AB"[index]}` : "Results"}>
            <SearchForm
              setting={setting}
              editions={editions.data?.items ?? []}
              name={comparing ? "AB"[index]! : ""}
              onChange={(other) =>
                change(settings.map((item, at) => (at === index ? other : item)))
              }
            />
            {found[index] && (
              <Results
                found={found[index]}
                other={comparing ? found[1 - index] : undefined}
                path={path}
                explained={explained}
              />
            )}
          </section>
        ))}
      </div>
      {found.length === 0 && (
        <p className="soft py-8 text-center">
          See which passages are found, and with what scores, before any chat user asks.
        </p>
      )}
    </>
  );
}

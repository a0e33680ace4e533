import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Doc, get, type Schemas, send, sendForm } from "../../api/client";
import { LabelledInput } from "../../components/forms";
import { Failure } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { DocumentText } from "./DocumentText";
import { TableEditor } from "./TableEditor";

type Preview = Schemas["PreviewOut"];

/** Write a document, or edit one: Markdown with a preview, a table as rows. */
export function WritePage() {
  const team = useTeam();
  const { kb = "", document: id } = useParams();
  const api = `${team.api}/kbs/${kb}`;
  const path = `/t/${team.slug}/kbs/${kb}/documents`;
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [text, setText] = useState<string | null>(id ? null : "");
  const [version, setVersion] = useState<number | null>(null);
  const [error, setError] = useState<string | null>(null);
  const [saving, setSaving] = useState(false);
  useEffect(() => {
    if (!id) return;
    Promise.all([
      get<Doc>(`${api}/documents/${id}`),
      get<Schemas["WrittenOut"]>(`${api}/documents/${id}/written`),
    ])
      .then(([document, written]) => {
        setName(written.name);
        setVersion(document.version);
        if (written.editable) setText(written.text);
        else setError(written.reason ?? "This document cannot be edited here.");
      })
      .catch((problem: Error) => setError(problem.message));
  }, [api, id]);
  const table = /\.(csv|tsv)$/i.test(name);
  const save = async () => {
    setSaving(true);
    setError(null);
    try {
      const call = id
        ? send<Schemas["AddedOut"]>(
            "PUT",
            `${api}/documents/${id}/written`,
            { text },
            { "If-Match": `"${version}"` },
          )
        : send<Schemas["AddedOut"]>("POST", `${api}/written`, { name: whole(name), text });
      const added = await call;
      void navigate(`${path}/${added.document.id}`);
    } catch (problem) {
      setError((problem as Error).message);
      setSaving(false);
    }
  };
  return (
    <>
      <p className="mb-2">
        <Link className="link-hover soft" to={id ? `${path}/${id}` : path}>
          ← Back
        </Link>
      </p>
      <div className="mb-4 flex flex-wrap items-end gap-4">
        {id ? (
          <h1 className="text-[27px] leading-tight">{name}</h1>
        ) : (
          <>
            <h1 className="sr-only">Write a document</h1>
            <LabelledInput
              label="Name"
              className="w-80"
              required
              placeholder="notes/winter-moorings"
              value={name}
              onChange={setName}
            />
            <label className="flex flex-col gap-1">
              Kind
              <select
                className="select w-auto"
                value={table ? "table" : "text"}
                onChange={(event) => {
                  setName(
                    name.replace(/\.(md|csv|tsv)$/i, "") +
                      (event.target.value === "table" ? ".csv" : ".md"),
                  );
                  setText(event.target.value === "table" ? "Column,Column\n,\n" : "");
                }}
              >
                <option value="text">Text in Markdown</option>
                <option value="table">Small table</option>
              </select>
            </label>
          </>
        )}
        <button
          type="button"
          className="btn btn-primary ml-auto"
          disabled={saving || text === null || !name.trim()}
          onClick={() => void save()}
        >
          {id ? "Save as a new revision" : "Add"}
        </button>
      </div>
      <Failure message={error} />
      {text !== null &&
        (table ? (
          <TableEditor
            text={text}
            separator={/\.tsv$/i.test(name) ? "\t" : ","}
            onChange={setText}
          />
        ) : (
          <Markdown api={api} name={name || "new.md"} text={text} onChange={setText} />
        ))}
    </>
  );
}

/** A name with an ending, by default Markdown's. */
const whole = (name: string) => (/\.\w+$/.test(name) ? name : `${name}.md`);

function Markdown({
  api,
  name,
  text,
  onChange,
}: {
  api: string;
  name: string;
  text: string;
  onChange: (text: string) => void;
}) {
  const [preview, setPreview] = useState<Preview | null>(null);
  useEffect(() => {
    if (!text.trim()) {
      setPreview(null);
      return;
    }
    // The service itself reads it: the preview shows what will be indexed.
    const timer = setTimeout(() => {
      const form = new FormData();
      form.append("file", new File([text], whole(name.split("/").pop() || "new")));
      sendForm<Preview>(`${api}/preview`, form).then(setPreview, () => setPreview(null));
    }, 500);
    return () => clearTimeout(timer);
  }, [api, name, text]);
  return (
    <div className="grid items-start gap-6 min-[900px]:grid-cols-2">
      <textarea
        className="textarea h-[60vh] w-full font-mono text-[13.5px] leading-relaxed"
        aria-label="Text"
        placeholder={"# Title\n\nWhat is to be known…"}
        value={text}
        onChange={(event) => onChange(event.target.value)}
      />
      <article className="sheet h-[60vh] overflow-y-auto px-8 py-6" aria-label="Preview">
        {preview ? (
          <DocumentText
            text={preview.text}
            blocks={preview.blocks}
            unit="page"
            labels={[]}
            marks={[]}
            passages={[]}
          />
        ) : (
          <p className="soft">The preview shows the document as it will be indexed.</p>
        )}
      </article>
    </div>
  );
}

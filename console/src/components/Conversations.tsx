import { useState } from "react";
import { keep, type Schemas, send } from "../api/client";
import { useResource } from "../api/useResource";
import { Ago, Failure } from "./text";

interface Props {
  /** The knowledge base or the desk. */
  api: string;
  headers?: Record<string, string>;
  current: string | null;
  onOpen: (id: string | null) => void;
  /** Focus the search field. */
  focus?: boolean;
}

/** The asker's own conversations: search, rename, export, delete. */
export function Conversations({ api, headers, current, onOpen, focus }: Props) {
  const [text, setText] = useState("");
  // The new title is kept here: the list may be loaded again while it is typed.
  const [renamed, setRenamed] = useState<{ id: string; title: string } | null>(null);
  const path = `${api}/conversations${text ? `?text=${encodeURIComponent(text)}` : ""}`;
  const { data, error, reload } = useResource<Schemas["Page_ConversationOut_"]>(path, { headers });
  const rename = () => {
    setRenamed(null);
    if (renamed?.title.trim()) {
      const { id, title } = renamed;
      void send("PATCH", `${api}/conversations/${id}`, { title }, headers).then(reload);
    }
  };
  const remove = (id: string) =>
    send("DELETE", `${api}/conversations/${id}`, undefined, headers).then(() =>
      id === current ? onOpen(null) : reload(),
    );
  return (
    <>
      {(text || data?.items.length !== 0) && (
        <input
          type="search"
          className="input w-full max-w-80"
          placeholder="Search your conversations"
          aria-label="Search your conversations"
          autoFocus={focus}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      )}
      <Failure message={error} />
      <ul className="divide-base-300 mt-2 max-h-[50vh] max-w-165 divide-y overflow-y-auto">
        {data?.items.map((item) => (
          <li key={item.id} className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2">
            {renamed?.id === item.id ? (
              <input
                className="input input-sm flex-1"
                aria-label="New title"
                value={renamed.title}
                maxLength={120}
                autoFocus
                onChange={(e) => setRenamed({ id: item.id, title: e.target.value })}
                onBlur={rename}
                onKeyDown={(e) => e.key === "Enter" && rename()}
              />
            ) : (
              <button
                type="button"
                className={`link-hover cursor-pointer text-left ${item.id === current ? "font-semibold" : ""}`}
                onClick={() => onOpen(item.id)}
              >
                {item.title}
              </button>
            )}
            <span className="soft ml-auto flex gap-3.5 text-[13px]">
              <Ago at={item.changed_at} />
              <button
                type="button"
                className="link-hover cursor-pointer"
                onClick={() => setRenamed(item)}
              >
                Rename
              </button>
              <button
                type="button"
                className="link-hover cursor-pointer"
                aria-label={`Export ${item.title} as Markdown`}
                onClick={() =>
                  void keep(`${api}/conversations/${item.id}/export`, `${item.title}.md`, headers)
                }
              >
                Markdown
              </button>
              <button
                type="button"
                className="link-hover cursor-pointer"
                aria-label={`Export ${item.title} as JSON`}
                onClick={() =>
                  void keep(
                    `${api}/conversations/${item.id}/export?form=json`,
                    `${item.title}.json`,
                    headers,
                  )
                }
              >
                JSON
              </button>
              <button
                type="button"
                className="link-hover cursor-pointer"
                aria-label={`Delete ${item.title}`}
                onClick={() => void remove(item.id)}
              >
                Delete
              </button>
            </span>
          </li>
        ))}
        {data?.items.length === 0 && (
          <li className="soft py-3">
            {text ? "No conversation matches." : "No conversation yet."}
          </li>
        )}
      </ul>
    </>
  );
}

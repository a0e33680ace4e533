import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useResource } from "../../api/useResource";
import { count } from "../../components/text";
import { useThrottled } from "../../hooks/useThrottled";

type Folder = Schemas["FolderOut"];

/** The folders of a knowledge base as a tree; a branch is loaded when it is opened. */
export function Folders({
  api,
  chosen,
  onChoose,
  mark,
}: {
  api: string;
  chosen: string;
  onChoose: (folder: string) => void;
  mark: number;
}) {
  const { data } = useResource<Folder[]>(`${api}/folders?turn=${useThrottled(mark)}`);
  if (!data?.length) return null;
  return (
    <nav aria-label="Folders" className="min-w-0">
      <button
        type="button"
        className={`cursor-pointer py-0.5 ${chosen === "" ? "text-primary font-semibold" : ""}`}
        onClick={() => onChoose("")}
      >
        All folders
      </button>
      <Branch api={api} folders={data} chosen={chosen} onChoose={onChoose} />
    </nav>
  );
}

function Branch({
  api,
  folders,
  chosen,
  onChoose,
}: {
  api: string;
  folders: Folder[];
  chosen: string;
  onChoose: (folder: string) => void;
}) {
  return (
    <ul>
      {folders.map((folder) => (
        <Leaf key={folder.path} api={api} folder={folder} chosen={chosen} onChoose={onChoose} />
      ))}
    </ul>
  );
}

function Leaf({
  api,
  folder,
  chosen,
  onChoose,
}: {
  api: string;
  folder: Folder;
  chosen: string;
  onChoose: (folder: string) => void;
}) {
  const [open, setOpen] = useState(chosen.startsWith(`${folder.path}/`));
  const { data } = useResource<Folder[]>(
    open ? `${api}/folders?under=${encodeURIComponent(folder.path)}` : null,
  );
  return (
    <li>
      <span className="flex items-baseline gap-1">
        <button
          type="button"
          className="soft size-6 cursor-pointer text-left"
          aria-label={`${open ? "Close" : "Open"} ${folder.name}`}
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {open ? "▾" : "▸"}
        </button>
        <button
          type="button"
          className={`min-w-0 flex-1 cursor-pointer truncate py-0.5 text-left ${chosen === folder.path ? "text-primary font-semibold" : ""}`}
          title={folder.path}
          onClick={() => onChoose(folder.path)}
        >
          {folder.name}
        </button>
        <span className={`text-[12.5px] ${folder.failed ? "text-error" : "soft"}`}>
          {count(folder.documents)}
        </span>
      </span>
      {open && data && data.length > 0 && (
        <div className="pl-4">
          <Branch api={api} folders={data} chosen={chosen} onChoose={onChoose} />
        </div>
      )}
    </li>
  );
}

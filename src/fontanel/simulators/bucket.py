"""A bucket store with the core of the S3 protocol.

Signed requests, paged listings, objects, multipart uploads. Buckets are folders below one
directory, objects their files. It keeps no versions and has one key.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
import shutil
import tempfile
from datetime import UTC, datetime
from email.utils import formatdate
from pathlib import Path
from urllib.parse import parse_qsl, quote
from xml.sax.saxutils import escape

from defusedxml import ElementTree
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, Response
from starlette.routing import Route

from fontanel.sources.network.signing import ALGORITHM, sign

_NAMESPACE = "http://s3.amazonaws.com/doc/2006-03-01/"


class _Refused(Exception):
    def __init__(self, status: int, code: str, message: str) -> None:
        super().__init__(message)
        self.status, self.code = status, code


def bucket_app(directory: Path, access_key: str, secret_key: str) -> Starlette:
    """Return a store of the folders of a directory.

    Requests must be signed with this key.
    """
    store = _Store(directory.resolve(), access_key, secret_key)
    methods = ["GET", "HEAD", "PUT", "POST", "DELETE"]
    return Starlette(routes=[Route("/{path:path}", store.answer, methods=methods)])


class _Store:
    def __init__(self, directory: Path, access_key: str, secret_key: str) -> None:
        self._directory = directory
        self._access_key = access_key
        self._secret_key = secret_key
        self._etags: dict[Path, tuple[int, int, str]] = {}
        self._parts: dict[str, Path] = {}

    async def answer(self, request: Request) -> Response:
        try:
            body = await request.body()
            self._check(request, body)
            bucket, _, key = request.path_params["path"].partition("/")
            folder = self._directory / bucket
            if not bucket:
                return self._buckets()
            if not folder.is_dir() or folder.parent != self._directory:
                raise _Refused(404, "NoSuchBucket", "There is no such bucket.")
            return (
                self._object(request, folder, key, _unpacked(request, body))
                if key
                else self._listing(request, folder)
            )
        except _Refused as refused:
            text = f"<Error><Code>{refused.code}</Code><Message>{escape(str(refused))}</Message></Error>"  # noqa: E501
            return Response(
                '<?xml version="1.0"?>' + text, refused.status, media_type="application/xml"
            )

    # Signatures

    def _check(self, request: Request, body: bytes) -> None:
        text = request.headers.get("authorization", "")
        scheme, _, rest = text.partition(" ")
        fields = dict(part.strip().split("=", 1) for part in rest.split(",") if "=" in part)
        credential = fields.get("Credential", "")
        key, _, scope = credential.partition("/")
        if scheme != ALGORITHM or key != self._access_key:
            raise _Refused(
                403,
                "InvalidAccessKeyId" if scheme == ALGORITHM else "AccessDenied",
                "Sign the request with a known key.",
            )
        moment = request.headers.get("x-amz-date", "")
        try:
            age = abs(
                (
                    datetime.now(UTC)
                    - datetime.strptime(moment, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
                ).total_seconds()
            )
        except ValueError as error:
            raise _Refused(403, "AccessDenied", "The request has no date.") from error
        if age > 900:
            raise _Refused(403, "RequestTimeTooSkewed", "The request's date is too far off.")
        claimed = request.headers.get("x-amz-content-sha256", "")
        if len(claimed) == 64 and claimed != hashlib.sha256(body).hexdigest():
            raise _Refused(400, "XAmzContentSHA256Mismatch", "The body is not what was signed.")
        signed = fields.get("SignedHeaders", "").split(";")
        headers = {name: request.headers.get(name, "") for name in signed}
        query = parse_qsl(request.url.query, keep_blank_values=True)
        path = request.scope["raw_path"].decode()
        requested = sign(
            self._secret_key, request.method, path, query, headers, signed, claimed, moment, scope
        )
        if "host" not in signed or not hmac.compare_digest(requested, fields.get("Signature", "")):
            raise _Refused(403, "SignatureDoesNotMatch", "The signature is not right.")

    # Buckets and objects

    def _buckets(self) -> Response:
        names = sorted(path.name for path in self._directory.iterdir() if path.is_dir())
        rows = "".join(f"<Bucket><Name>{escape(name)}</Name></Bucket>" for name in names)
        return _xml(
            "<ListAllMyBucketsResult"
            f' xmlns="{_NAMESPACE}"><Buckets>{rows}</Buckets></ListAllMyBucketsResult>'
        )

    def _listing(self, request: Request, folder: Path) -> Response:
        if request.method not in ("GET", "HEAD"):
            raise _Refused(405, "MethodNotAllowed", "A bucket can be listed.")
        query = dict(request.query_params)
        prefix, delimiter = query.get("prefix", ""), query.get("delimiter", "")
        most = min(int(query.get("max-keys", "1000") or 1000), 1000)
        after = query.get("continuation-token") or query.get("start-after", "")
        encoded = query.get("encoding-type") == "url"
        shown = (lambda text: quote(text, safe="/")) if encoded else escape
        keys = sorted(str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file())
        rows: list[str] = []
        groups: list[str] = []
        last, more = "", False
        for key in keys:
            if not key.startswith(prefix) or key <= after:
                continue
            group = _group(key, prefix, delimiter)
            if group is not None and (group in groups or group <= after):
                last = key
                continue
            if len(rows) + len(groups) >= most:
                more = True
                break
            last = key
            if group is not None:
                groups.append(group)
                continue
            path = folder / key
            result = path.stat()
            changed = datetime.fromtimestamp(result.st_mtime, UTC).strftime(
                "%Y-%m-%dT%H:%M:%S.000Z"
            )
            rows.append(
                f"<Contents><Key>{shown(key)}</Key><LastModified>{changed}</LastModified><ETag>&quot;{self._etag(path)}&quot;</ETag>"
                f"<Size>{result.st_size}</Size><StorageClass>STANDARD</StorageClass></Contents>"
            )
        rows += [
            f"<CommonPrefixes><Prefix>{shown(group)}</Prefix></CommonPrefixes>" for group in groups
        ]
        token = f"<NextContinuationToken>{escape(last)}</NextContinuationToken>" if more else ""
        coding = "<EncodingType>url</EncodingType>" if encoded else ""
        return _xml(
            "<ListBucketResult"
            f' xmlns="{_NAMESPACE}"><Name>{escape(folder.name)}</Name><Prefix>{shown(prefix)}</Prefix>{coding}'  # noqa: E501
            f"<KeyCount>{len(rows)}</KeyCount><MaxKeys>{most}</MaxKeys><IsTruncated>{str(more).lower()}</IsTruncated>"
            f"{''.join(rows)}{token}</ListBucketResult>"
        )

    def _object(self, request: Request, folder: Path, key: str, body: bytes) -> Response:
        path = (folder / key).resolve()
        if not path.is_relative_to(folder):
            raise _Refused(400, "InvalidURI", "The key leads out of the bucket.")
        query = dict(request.query_params)
        if request.method == "POST" and "uploads" in query:
            return self._begin(folder, key)
        if "uploadId" in query:
            return self._upload(request, folder, key, path, query, body)
        if request.method == "PUT":
            _write(path, body)
            return Response(headers={"ETag": f'"{self._etag(path)}"'})
        if request.method == "DELETE":
            path.unlink(missing_ok=True)
            return Response(status_code=204)
        if not path.is_file():
            raise _Refused(404, "NoSuchKey", "There is no such object.")
        headers = {
            "ETag": f'"{self._etag(path)}"',
            "Last-Modified": formatdate(path.stat().st_mtime, usegmt=True),
        }
        if request.headers.get("if-none-match") == headers["ETag"]:
            return Response(status_code=304, headers=headers)
        return FileResponse(path, headers=headers, media_type="application/octet-stream")

    def _begin(self, folder: Path, key: str) -> Response:
        upload = secrets.token_hex(16)
        self._parts[upload] = Path(tempfile.mkdtemp(prefix="fontanel-upload-"))
        return _xml(
            "<InitiateMultipartUploadResult"
            f' xmlns="{_NAMESPACE}"><Bucket>{escape(folder.name)}</Bucket><Key>{escape(key)}</Key>'
            f"<UploadId>{upload}</UploadId></InitiateMultipartUploadResult>"
        )

    def _upload(
        self,
        request: Request,
        folder: Path,
        key: str,
        path: Path,
        query: dict[str, str],
        body: bytes,
    ) -> Response:
        parts = self._parts.get(query["uploadId"])
        if parts is None:
            raise _Refused(404, "NoSuchUpload", "There is no such upload.")
        if request.method == "PUT":
            (parts / f"{int(query['partNumber']):05}").write_bytes(body)
            return Response(
                headers={"ETag": f'"{hashlib.md5(body, usedforsecurity=False).hexdigest()}"'}
            )
        del self._parts[query["uploadId"]]
        if request.method == "POST":
            requested = [
                int(node.text or 0)
                for node in ElementTree.fromstring(body).iterfind("{*}Part/{*}PartNumber")
            ]
            _write(path, b"".join((parts / f"{number:05}").read_bytes() for number in requested))
        shutil.rmtree(parts, ignore_errors=True)
        if request.method == "DELETE":
            return Response(status_code=204)
        return _xml(
            "<CompleteMultipartUploadResult"
            f' xmlns="{_NAMESPACE}"><Bucket>{escape(folder.name)}</Bucket><Key>{escape(key)}</Key>'
            f"<ETag>&quot;{self._etag(path)}&quot;</ETag></CompleteMultipartUploadResult>"
        )

    def _etag(self, path: Path) -> str:
        result = path.stat()
        kept = self._etags.get(path)
        if kept is None or kept[:2] != (result.st_mtime_ns, result.st_size):
            digest = hashlib.md5(path.read_bytes(), usedforsecurity=False).hexdigest()
            kept = self._etags[path] = (result.st_mtime_ns, result.st_size, digest)
        return kept[2]


def _group(key: str, prefix: str, delimiter: str) -> str | None:
    if not delimiter or delimiter not in key[len(prefix) :]:
        return None
    return prefix + key[len(prefix) :].split(delimiter)[0] + delimiter


def _write(path: Path, body: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    scratch = path.with_name(f".{path.name}.{secrets.token_hex(4)}")
    scratch.write_bytes(body)
    os.replace(scratch, path)


def _unpacked(request: Request, body: bytes) -> bytes:
    """The object's bytes, out of the chunks that a streamed upload is sent in."""
    if "aws-chunked" not in request.headers.get("content-encoding", ""):
        return body
    out, position = [], 0
    while position < len(body):
        end = body.index(b"\r\n", position)
        size = int(body[position:end].split(b";")[0], 16)
        if size == 0:
            break
        out.append(body[end + 2 : end + 2 + size])
        position = end + 2 + size + 2
    return b"".join(out)


def _xml(text: str) -> Response:
    return Response('<?xml version="1.0" encoding="UTF-8"?>\n' + text, media_type="application/xml")

"""Writes what the CloudEvents SDK for Python sends in every mode, a JSON object a line."""
import base64, json
from cloudevents.http import CloudEvent, to_binary, to_structured

def show(mode, want, headers, body):
    body = body if isinstance(body, bytes) else (body or "").encode()
    print(json.dumps({"sdk": "python", "mode": mode, "want": want, "headers": headers, "body": base64.b64encode(body).decode()}))

def event(**more):
    return {"type": "firnline.bulletin.issued", "source": "/stations/velm", "subject": "7", "id": "e1", "time": "2031-05-04T10:00:00Z", **more}

cases = [
    ("object", "updated", event(), {"title": "Fresh snow"}),
    ("object with its content type", "updated", event(datacontenttype="application/json"), {"title": "Fresh snow"}),
    ("bytes of JSON", "updated", event(datacontenttype="application/json"), b'{"title": "Fresh snow"}'),
    ("bytes", "refused", event(datacontenttype="application/octet-stream"), b"\x00\x01\x02"),
    ("text", "refused", event(datacontenttype="text/plain"), "Fresh snow"),
    ("no data", "refused", event(), None),
    ("deleted", "deleted", event(type="firnline.bulletin.withdrawn"), None),
    ("deleted with data", "deleted", event(type="firnline.bulletin.withdrawn"), {"title": "gone"}),
]
for mode, want, attributes, data in cases:
    for way, convert in (("binary", to_binary), ("structured", to_structured)):
        headers, body = convert(CloudEvent(attributes, data))
        show(way + ", " + mode, want, dict(headers), body)

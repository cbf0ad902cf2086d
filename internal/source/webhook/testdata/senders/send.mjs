// Writes what the CloudEvents SDK for JavaScript sends in every mode, a JSON object a line.
import { CloudEvent, HTTP } from "cloudevents";

const event = (more) => new CloudEvent({
  type: "firnline.bulletin.issued", source: "/stations/velm", subject: "7", id: "e1", time: "2031-05-04T10:00:00Z", ...more,
});
const snow = { title: "Fresh snow" };
const cases = [
  ["object", "updated", { data: snow }],
  ["object with its content type", "updated", { data: snow, datacontenttype: "application/json" }],
  ["bytes of JSON", "updated", { data: new TextEncoder().encode(JSON.stringify(snow)), datacontenttype: "application/json" }],
  ["bytes", "refused", { data: new Uint8Array([0, 1, 2]), datacontenttype: "application/octet-stream" }],
  ["text", "refused", { data: "Fresh snow", datacontenttype: "text/plain" }],
  ["no data", "refused", {}],
  ["deleted", "deleted", { type: "firnline.bulletin.withdrawn" }],
  ["deleted with data", "deleted", { type: "firnline.bulletin.withdrawn", data: { title: "gone" } }],
];
for (const [mode, want, more] of cases) {
  for (const [way, convert] of [["binary", HTTP.binary], ["structured", HTTP.structured]]) {
    const { headers, body } = convert(event(more));
    const bytes = body === undefined ? Buffer.alloc(0) : Buffer.from(body instanceof Uint8Array ? body : String(body));
    console.log(JSON.stringify({ sdk: "javascript", mode: `${way}, ${mode}`, want, headers, body: bytes.toString("base64") }));
  }
}

package plan

import "readyferry/core/step"

// flowSchema is the part of the flow's JSON Schema that does not depend on the
// kinds of step.
const flowSchema = `{
	"$schema": "https://json-schema.org/draft/2020-12/schema",
	"title": "Ready Ferry flow document",
	"type": "object", "additionalProperties": false,
	"required": ["readyferry", "name", "intake", "steps"],
	"properties": {
		"readyferry": {"const": "flow/1", "description": "format of this document"},
		"name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9-]*$", "maxLength": 100, "description":
			"identity: letters, digits, hyphens"},
		"title": {"type": "string", "maxLength": 200},
		"note": {"type": "string"},
		"retain": {"$ref": "#/$defs/retain"},
		"area": {"title": "Area", "type": "string", "pattern": "^[a-z0-9][a-z0-9-]*$", "maxLength": 60, "description":
			"the label by which rights are given: who has roles in it sees the flow and works with it"},
		"mask": {"title": "Masked", "type": "array", "maxItems": 200, "items": {"type": "string", "pattern": "^(/([^~/]|~[01])*)+$",
			"maxLength": 500}, "description":
			"fields, as /patron/name, whose values only those may see who have the right unmask; * stands for every member or item"},
		"limits": {"$ref": "#/$defs/bounds"},
		"weight": {"$ref": "#/$defs/weight"},
		"search": {"$ref": "#/$defs/search"},
		"intake": {"$ref": "#/$defs/intake"},
		"steps": {"$ref": "#/$defs/steps"},
		"on-dead-letter": {"type": "object", "additionalProperties": false, "required": ["steps"], "description":
			"steps that run once for each dead letter of the flow; letter is about it, body is the message as it came in",
				"properties": {
			"note": {"type": "string"}, "steps": {"$ref": "#/$defs/steps"}}}
	},
	"$defs": {
		"intake": {"type": "object", "required": ["kind"], "properties": {"kind": {"enum": ["webhook", "queue", "topic",
			"subflow", "schedule", "poll", "table", "load"]}},
			"allOf": [
			{"if": {"properties": {"kind": {"const": "webhook"}}, "required": ["kind"]},
				"then": {"additionalProperties": false, "required": ["path"], "properties": {
				"kind": true, "note": {"type": "string"},
				"path": {"title": "Path below /in", "type": "string", "pattern":
					"^(/([A-Za-z0-9._~-]+|\\{[A-Za-z_][A-Za-z0-9_]*\\}))+$", "description": "served below /in; {name} is a parameter"},
				"methods": {"title": "Methods", "type": "array", "minItems": 1, "items": {"enum": ["POST", "PUT", "PATCH",
					"DELETE", "GET"]}, "description": "POST by default"},
				"callers": {"title": "Who may call", "type": "array", "items": {"type": "string"}, "description":
					"connections of kind caller that may call; none: anyone may"},
				"answer": {"title": "The caller is answered", "titles": {"stored": "once the message is stored", "finished":
					"when it is finished, or a step answers"}, "default": "stored", "enum": ["stored", "finished"], "description":
						"stored (default): 202 once the message is durable, unless a step says otherwise; finished: the caller waits for an answer step, or the end"},
				"wait": {"title": "Kept waiting", "format": "duration", "default": "30s", "when": {"answer": ["finished"]},
					"type": "string", "description":
						"finished: how long the caller is kept waiting, 30s by default and 5m at most; then it gets 202"},
				"faults": {"title": "Refused by", "default": "problem", "titles": {"problem": "problem documents (RFC 9457)",
					"soap-1.1": "faults of SOAP 1.1", "soap-1.2": "faults of SOAP 1.2"}, "enum": ["problem", "soap-1.1", "soap-1.2"], "description":
						"what callers get who are refused: a problem document (default), or a fault of SOAP"},
				"limit": {"title": "Largest body", "default": 1048576, "type": "integer", "minimum": 1, "maximum": 67108864,
					"description": "largest body in bytes, 1048576 by default"},
				"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
					"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
				"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "queue"}}, "required": ["kind"]}, "then": {"additionalProperties": false,
				"required": ["queue"], "properties": {
				"kind": true, "note": {"type": "string"},
				"queue": {"title": "Queue", "type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description":
					"name of the queue"},
				"in-flight": {"title": "At once", "default": 4, "type": "integer", "minimum": 1, "maximum": 1000, "description":
					"messages worked on at once, 4 by default; 1 means strictly one after the other"},
				"waiting": {"title": "May wait", "default": 10000, "type": "integer", "minimum": 1, "maximum": 1000000,
					"description": "messages that wait for another try of a delivery give their place to others; with so many of ` +
	`them the reader pauses, 10000 by default"},
				"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
					"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
				"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "topic"}}, "required": ["kind"]}, "then": {"additionalProperties": false,
				"required": ["topic"], "properties": {
				"kind": true, "note": {"type": "string"},
				"topic": {"title": "Topic", "type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description":
					"name of the topic"},
				"subscription": {"title": "Subscription", "type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$",
					"description":
						"the place in the topic that the flow reads at, its own name by default; flows that name the same share the messages"},
				"begin": {"description":
					"where a new subscription begins: earliest (default), latest, {time: ...} or {offset: ...}", "if": {"type":
						"string"}, "then": {"enum": ["earliest", "latest"]},
					"else": {"type": "object", "additionalProperties": false, "minProperties": 1, "maxProperties": 1, "properties": {
						"time": {"type": "string", "description": "with the first message put then or later"},
						"offset": {"type": "integer", "minimum": 0, "description":
							"with the message at this offset; they count from 0"}}}},
				"in-flight": {"title": "At once", "default": 4, "type": "integer", "minimum": 1, "maximum": 1000, "description":
					"messages worked on at once, 4 by default; 1 means strictly one after the other"},
				"waiting": {"title": "May wait", "default": 10000, "type": "integer", "minimum": 1, "maximum": 1000000,
					"description": "messages that wait for another try of a delivery give their place to others; with so many of ` +
	`them the reader pauses, 10000 by default"},
				"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
					"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
				"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "subflow"}}, "required": ["kind"]},
				"then": {"additionalProperties": false, "required": [], "properties": {
				"kind": true, "note": {"type": "string"},
				
				"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
					"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
				"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "load"}}, "required": ["kind"]}, "then": {"additionalProperties": false,
				"required": [], "properties": {
				"kind": true, "note": {"type": "string"},
				
				"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
					"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
				"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "schedule"}}, "required": ["kind"]},
				"then": {"additionalProperties": false, "required": [], "properties": {
				"kind": true, "note": {"type": "string"},
				"cron": {"$ref": "#/$defs/cron"}, "every": {"$ref": "#/$defs/every"},
				"zone": {"$ref": "#/$defs/zone"}, "during": {"$ref": "#/$defs/during"},
				"missed": {"title": "Times that passed unseen", "default": "once", "titles": {"once": "one message for all",
					"each": "one message for each", "skip": "no message"}, "enum": ["once", "each", "skip"], "description":
						"times that passed while the application was down: one message for all of them (default), one for each, or none"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "poll"}}, "required": ["kind"]}, "then": {"additionalProperties": false,
				"required": ["of", "path", "each"], "properties": {
				"kind": true, "note": {"type": "string"},
				"cron": {"$ref": "#/$defs/cron"}, "every": {"$ref": "#/$defs/every"},
				"zone": {"$ref": "#/$defs/zone"}, "during": {"$ref": "#/$defs/during"},
				"of": {"title": "HTTP connection", "format": "connection", "type": "string", "minLength": 1, "description":
					"name of an HTTP connection"},
				"path": {"title": "Path", "format": "template", "type": "string", "description":
					"template; mark is the remembered high-water mark"},
				"headers": {"title": "Headers", "format": "template", "type": "object",
					"additionalProperties": {"type": ["string", "number", "null"]}},
				"each": {"title": "Each item of", "format": "expression", "examples": ["body.items"], "type": "string",
					"minLength": 1, "description": "expression over the answer's body: the list of items; each is a message"},
				"mark": {"title": "Mark", "format": "expression", "type": "string", "description":
					"expression for the mark: over item (the greatest counts), or over body"},
				"first": {"title": "First mark", "type": ["string", "number"], "description": "the mark of the first poll"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}},
			{"if": {"properties": {"kind": {"const": "table"}}, "required": ["kind"]}, "then": {"additionalProperties": false,
				"required": ["of", "table", "key"], "properties": {
				"kind": true, "note": {"type": "string"},
				"cron": {"$ref": "#/$defs/cron"}, "every": {"$ref": "#/$defs/every"},
				"zone": {"$ref": "#/$defs/zone"}, "during": {"$ref": "#/$defs/during"},
				"of": {"title": "SQL connection", "format": "connection", "type": "string", "minLength": 1, "description":
					"name of an SQL connection"},
				"table": {"title": "Table or view", "offers": true, "type": "string", "pattern":
					"^[A-Za-z_][A-Za-z0-9_]*(\\.[A-Za-z_][A-Za-z0-9_]*)?$", "description": "name of the table or view"},
				"key": {"title": "Key", "type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
					"column that tells rows apart; without changed, it must increase"},
				"changed": {"title": "Change time", "type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
					"column with the time of the last change; without it, only new rows are seen"},
				"deleted": {"title": "look for rows that are gone, too", "when": {"changed": ["*"]}, "type": "boolean",
					"description": "look for rows that are gone, too; needs changed"},
				"begin": {"title": "At the first poll", "default": "earliest", "titles": {"earliest": "all rows are new",
					"latest": "all rows are known"}, "enum": ["earliest", "latest"], "description":
						"earliest (default): rows that are there at the first poll are new; latest: they are known"},
				"most": {"title": "Read at once", "default": 500, "type": "integer", "minimum": 1, "maximum": 5000, "description":
					"rows that are read at once, 500 by default"},
				"late": {"title": "Late rows", "default": "5m", "format": "duration", "type": "string", "description":
					"rows that commit so long after others are found, too, 5m by default; 0s looks behind the last row alone"},
				"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
				"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}}}
			]
		},
		"retain": {"title": "Kept", "type": "object", "additionalProperties": false, "description":
			"how long what is delivered or turned away is kept; dead letters stay until somebody decides about them",
			"properties": {
			"days": {"title": "Days", "default": 30, "anyOf": [{"type": "integer", "minimum": 1, "maximum": 36500},
				{"const": "forever"}], "description": "days behind its end, 30 by default, or forever"},
			"bytes": {"title": "At most", "type": ["string", "integer"], "minimum": 1, "examples": ["10GiB"], "description":
				"size of all messages of the flow, such as 10GiB; the oldest that have ended go first"}}},
		"bounds": {"title": "Limits", "type": "object", "additionalProperties": false, "description":
			"how much the flow takes in; callers above it are told to come again, sources wait", "properties": {
			"per-second": {"title": "Messages a second", "type": "integer", "minimum": 1, "maximum": 1000000, "description":
				"messages that are taken in a second"},
			"bytes": {"title": "Bytes a second", "type": ["string", "integer"], "minimum": 1, "examples": ["1MiB"],
				"description": "bytes of messages that are taken in a second, such as 1MiB"}}},
		"search": {"title": "Found by", "type": "object", "additionalProperties": false, "description":
			"by what its transactions are found besides their reference, reason and notes", "properties": {
			"fields": {"title": "Fields of the message", "type": "array", "maxItems": 20, "items": {"type": "string", "pattern":
				"^(/[^/]*)+$"}, "examples": [["/patron/card"]], "description": "JSON Pointers (RFC 6901) into the message as it came in"},
			"headers": {"title": "Headers", "type": "array", "maxItems": 20, "items": {"type": "string"}, "examples":
				[["x-portal"]], "description": "names of headers, whose values are found by header: and by words"}}},
		"weight": {"title": "Weight", "default": 1, "type": "integer", "minimum": 1, "maximum": 100, "description":
			"of two flows that want the same at once, one of twice the weight gets twice as much; 1 by default"},
		"format": {"title": "Format", "default": "auto", "titles": {"auto": "by Content-Type"}, "enum": ["json", "xml",
			"csv", "hl7", "form", "multipart", "jsonl", "fixed", "avro", "protobuf", "text", "binary", "auto"], "description":
			"auto (default): by Content-Type"},
		"by-schema": {"title": "Schema", "when": {"format": ["avro", "protobuf", "auto"]}, "type": "string", "minLength": 1,
			"examples": ["schemas/loan.avsc"], "description":
			"Avro and Protocol Buffers: the file of the flow that says what the bytes mean, such as schemas/loan.avsc or ` +
	`schemas/loan.proto; an Avro container file brings its own"},
		"by-type": {"title": "Message type", "when": {"format": ["protobuf"]}, "type": "string", "minLength": 1,
			"description": "Protocol Buffers: the message type, where the file has several"},
		"framing": {"title": "Framing", "when": {"format": ["avro"]}, "default": "plain", "enum": ["plain", "single-object",
			"numbered", "container"], "titles": {"plain": "none", "single-object": "single object: the schema's fingerprint",
			"numbered": "a zero byte and the schema's number", "container": "a container file of many"}, "description":
			"Avro: what stands around a datum: nothing (plain, default), the fingerprint of its schema (single-object), a ` +
	`zero byte and four bytes of number (numbered), or an object container file, which is known by how it begins"},
		"schema-number": {"title": "Number of the schema", "when": {"framing": ["numbered"]}, "type": "integer", "minimum": 0,
			"maximum": 4294967295, "description": "Avro: what is written before a datum whose framing is numbered"},
		"header": {"title": "the first row names the columns", "when": {"format": ["csv"]}, "type": "boolean",
			"description": "CSV: the first row names the members of the others"},
		"delimiter": {"title": "Delimiter", "when": {"format": ["csv"]}, "default": ",", "type": "string", "minLength": 1,
			"maxLength": 1, "description": "CSV: what parts fields, a comma by default"},
		"quote": {"title": "Quote", "when": {"format": ["csv"]}, "type": "string", "minLength": 1, "maxLength": 1,
			"description": "CSV: what stands around a field, \" by default"},
		"encoding": {"title": "Encoding", "type": "string", "minLength": 1, "examples": ["windows-1252"], "description":
			"character set of the bytes, such as windows-1252; else that of the document or the Content-Type, or UTF-8"},
		"columns": {"title": "Columns", "when": {"format": ["fixed"]}, "type": "array", "minItems": 1, "description":
			"text of fixed width: its columns in their order", "items": {"type": "object", "additionalProperties": false,
			"required": ["name", "width"], "properties": {"name": {"title": "Name", "type": "string", "minLength": 1},
			"width": {"title": "Width", "type": "integer", "minimum": 1, "maximum": 100000, "description": "in characters"},
			"align": {"title": "Stands at the", "default": "left", "enum": ["left", "right"]},
			"fill": {"title": "Filled up with", "type": "string", "minLength": 1, "maxLength": 1, "description":
				"one character, a blank by default"}}}},
		"quotes": {"title": "Quotes", "when": {"format": ["csv"]}, "default": "strict", "enum": ["strict", "lenient"],
			"titles": {"strict": "as RFC 4180 has them", "lenient": "taken as they come"}, "description":
			"CSV: strict (default) refuses a quote that belongs to nothing and bytes that are no UTF-8; lenient takes the ` +
	`quote for itself, and the bytes for Windows-1252"},
		"missing": {"title": "What is missing in a condition", "default": "error", "enum": ["error", "otherwise"], "titles": {
			"error": "is an error: the message is a dead letter", "otherwise": "makes it false: the otherwise is taken"},
			"description":
			"error (default): a condition over something that is missing fails; otherwise: it counts as false, with a note"},
		"prefixes": {"title": "Prefixes", "when": {"format": ["xml"]}, "type": "object", "format": "template",
			"additionalProperties": {"type": "string"}, "description":
			"XML: prefix: namespace; names have these prefixes, whatever the sender writes; an empty prefix is none"},
		"limits": {"title": "Limits", "type": "object", "additionalProperties": false, "description":
			"how large a document may be, besides its bytes", "properties": {
			"depth": {"title": "Nesting", "default": 512, "type": "integer", "minimum": 1, "maximum": 10000, "description":
				"nesting, 512 by default"},
			"values": {"title": "Values", "default": 2000000, "type": "integer", "minimum": 1, "maximum": 100000000,
				"description": "values in all, 2000000 by default"}}},
		"strict": {"title": "refuse JSON that names a member twice", "type": "boolean", "description":
			"refuse JSON whose maps name a member twice"},
		"cron": {"title": "Cron", "type": "string", "description":
			"cron expression: minute, hour, day of the month, month, day of the week; seconds may stand before"},
		"every": {"title": "Every", "format": "duration", "type": "string", "description":
			"in place of cron: 30s, 15m, 24h, counted from 1970"},
		"zone": {"title": "Time zone", "default": "UTC", "type": "string", "description":
			"time zone of the cron expression, such as Europe/Dublin; UTC by default"},
		"during": {"title": "Only during", "format": "calendar", "type": "string", "maxLength": 100, "description":
			"name of a calendar: what falls outside of its times is not due"},
		"once": {"title": "Once per", "format": "expression", "type": "string", "description":
			"expression; the same value within once-for is the same message"},
		"once-for": {"title": "Remembered for", "format": "duration", "default": "24h", "when": {"once": ["*"]}, "type":
			"string", "description": "24h by default"},
		"reference": {"title": "Reference", "format": "expression", "type": "string", "description":
			"expression; the business reference that people search by"},
		"order": {"title": "Order", "format": "expression", "type": "string", "description":
			"expression; deliveries of equal value keep their order, per target"},
		"retry": ` + step.RetrySchema + `,
		"else": ` + step.CatchSchema + `,
		"steps": {"type": "array", "items": {"$ref": "#/$defs/step"}}
	}
}`

// common are the settings that every step has.
const common = `{
	"id": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9_-]*$", "maxLength": 100, "description":
		"unique in the flow"},
	"kind": {"type": "string"},
	"title": {"type": "string", "maxLength": 200},
	"note": {"type": "string", "description": "why the step is there, for people"},
	"when": {"type": ["string", "boolean"], "description": "condition; the step is skipped unless it is true"},
	"off": {"type": "boolean", "description": "neither checked nor run"},
	"else": {"$ref": "#/$defs/else"}
}`

// inFlow are the settings that the intake of every flow with messages has.
const inFlow = `{
	"note": {"type": "string"},
	"of": {"type": "string", "title": "Connection", "format": "connection", "minLength": 1, "description":
		"name of the connection"},
	"format": {"$ref": "#/$defs/format"}, "header": {"$ref": "#/$defs/header"}, "delimiter": {"$ref":
		"#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"}, "prefixes": {"$ref": "#/$defs/prefixes"},
	"limits": {"$ref": "#/$defs/limits"}, "strict": {"$ref": "#/$defs/strict"},
				"encoding": {"$ref": "#/$defs/encoding"}, "quotes": {"$ref": "#/$defs/quotes"},
				"columns": {"$ref": "#/$defs/columns"},
				"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
				"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
				"missing": {"$ref": "#/$defs/missing"},
	"once": {"$ref": "#/$defs/once"}, "once-for": {"$ref": "#/$defs/once-for"},
	"reference": {"$ref": "#/$defs/reference"}, "order": {"$ref": "#/$defs/order"}}`

package base

import (
	"encoding/json"
	"io"
	"net/http"
)

// LogRecord is what is read of one log record of OTLP/HTTP with JSON (OpenTelemetry Protocol, section OTLP/HTTP): body
// and attributes of text, resource attributes included.
type LogRecord struct {
	Body       string
	Attributes map[string]string
}

type otlpValue struct {
	StringValue string `json:"stringValue"`
	IntValue    any    `json:"intValue"`
}

type otlpAttribute struct {
	Key   string    `json:"key"`
	Value otlpValue `json:"value"`
}

// Logs reads the log records of a request.
func Logs(r *http.Request) ([]LogRecord, error) {
	var in struct {
		ResourceLogs []struct {
			Resource  struct{ Attributes []otlpAttribute }
			ScopeLogs []struct {
				LogRecords []struct {
					Body       otlpValue
					Attributes []otlpAttribute
				}
			}
		}
	}
	b, err := io.ReadAll(http.MaxBytesReader(nil, r.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b, &in); err != nil {
		return nil, err
	}
	var out []LogRecord
	for _, rl := range in.ResourceLogs {
		for _, sl := range rl.ScopeLogs {
			for _, l := range sl.LogRecords {
				x := LogRecord{Body: l.Body.StringValue, Attributes: map[string]string{}}
				for _, list := range [][]otlpAttribute{rl.Resource.Attributes, l.Attributes} {
					for _, a := range list {
						x.Attributes[a.Key] = a.Value.StringValue
					}
				}
				out = append(out, x)
			}
		}
	}
	return out, nil
}

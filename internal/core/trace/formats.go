package trace

// Format describes a form of trace files. Reader, Writer, the commands' flags, and what
// reports advise derive from it. One that is told by a line brings begins; those that
// are told by a whole file or by directives are found by Reader.
type Format struct {
	Name  string
	Title string // what such a file has, in a sentence
	// IsLog says that its lines have further fields, which -fields names, and no
	// columns, which -map renames.
	IsLog bool
	// Whole says that such a file is read as a whole.
	Whole bool
	// begins returns what reads the lines of a file that begins with a line, nil if it
	// is of another format. header says that the line is but a header; why, what is
	// wrong with the file.
	begins func(r *Reader, line []byte) (f lineReader, header bool, why string)
	// append appends a record; nil: it is not written.
	append func(b []byte, r *Record) []byte
	// head, between, end and foot stand before the first record, between two, after each,
	// and after the last.
	head, between, end, foot string
}

// lineReader reads one line into a record; a column of 0 says that all is well.
type lineReader interface {
	parse(line []byte, r *Record) (column int, why string)
}

// pieceReader is a lineReader of lines each of which can be read without those before
// it, so that several helpers can read a file in pieces.
type pieceReader interface {
	lineReader
	forPieces(helper *Reader) lineReader // a reader for a helper, which shares nothing
}

func (j *jsonl) forPieces(h *Reader) lineReader { return &jsonl{names: h.names} }
func (t *lineTemplate) forPieces(h *Reader) lineReader {
	return &lineTemplate{pieces: t.pieces, text: t.text}
}
func (c *combined) forPieces(h *Reader) lineReader { return h.log }

// Formats are all there are, those that are told by a line in the order in which they
// are tried. It is read only.
var Formats = []*Format{jsonLines, csvRows, commonLog, combinedLog, w3cLog, harFile, jsonArray, ownLines}

var (
	jsonLines = &Format{
		Name: "jsonl", Title: "JSON Lines",
		begins: func(r *Reader, line []byte) (lineReader, bool, string) {
			if line[0] != '{' {
				return nil, false, ""
			}
			return &jsonl{names: r.names}, false, ""
		},
		append: AppendJSON, end: "\n",
	}
	csvRows = &Format{
		Name: "csv", Title: "CSV",
		begins: func(r *Reader, line []byte) (lineReader, bool, string) {
			if r.o.Fields != "" {
				return nil, false, "" // which names the fields of log lines
			}
			c, why := newCSV(line, r.names)
			if c == nil {
				return nil, false, why
			}
			r.csv = c
			return c, true, why
		},
		append: appendCSV, end: "\n",
		head: "time,client,method,host,path,status,bytes,duration,session,user_agent,referer,headers,cookies,frontend,upstream,backend,protocol\n",
	}
	// A log is Common until a line has what only Combined ones have.
	commonLog = &Format{
		Name: "common", Title: "Common log lines", IsLog: true,
		begins: func(r *Reader, line []byte) (lineReader, bool, string) { return r.log, false, "" },
		append: AppendCommon, end: "\n",
	}
	combinedLog = &Format{Name: "combined", Title: "Combined log lines", IsLog: true, append: AppendCombined, end: "\n"}
	w3cLog      = &Format{
		Name: "w3c", Title: "W3C Extended log lines", append: appendW3C, end: "\n",
		head: "#Version: 1.0\n#Fields: date time c-ip cs-method cs-host cs-uri-stem cs-uri-query sc-status sc-bytes time-taken" +
			" cs(User-Agent) cs(Referer) x-session x-frontend x-upstream x-backend x-protocol x-cookies x-headers\n",
	}
	harFile = &Format{
		Name: "har", Title: "HAR", Whole: true, append: appendHAR, between: ",\n", foot: "\n]}}\n",
		head: "{\"log\":" + `{"version":"1.2","creator":{"name":"kestrix","version":"1"},"entries":[` + "\n",
	}
	jsonArray = &Format{Name: "json", Title: "JSON arrays", Whole: true, append: AppendJSON, head: "[\n", between: ",\n", foot: "\n]\n"}
	ownLines  = &Format{Name: "line", Title: "lines of the form given"}
)

// FormatOf returns the format of a name, nil if there is none.
func FormatOf(name string) *Format {
	for _, f := range Formats {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// TitleOf returns what files of a format have, in a sentence; nothing for a name that
// is none.
func TitleOf(name string) string {
	if f := FormatOf(name); f != nil {
		return f.Title
	}
	return ""
}

// DurationBy returns how durations can be named that a file of the format does not
// call so; empty if they cannot.
func (f *Format) DurationBy() string {
	switch {
	case f.IsLog:
		return "-fields names further fields of log lines, such as -fields duration"
	case f.begins != nil:
		return "-map says which column has it, as in -map duration/ms=took"
	}
	return ""
}

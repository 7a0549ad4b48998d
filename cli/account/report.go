package account

import (
	"io"

	"uparrot/cli/shell"
	"uparrot/core/report"
	"uparrot/core/session"
)

// View writes a report to a file, or to stdout. A file appears only when it is
// whole.
func View(sh *shell.Streams, f io.ReadSeeker, form, table, out string, files *shell.Outputs) (*report.Digest, error) {
	if out == "" {
		if form == "pcapng" && shell.IsTerminal(sh.Out) {
			return nil, &session.Misuse{What: "pcapng is no text to be shown: name a file with --out", Example: "uparrot report valley.record --as pcapng --out valley.pcapng"}
		}
		return report.View(sh.Out, f, form, table)
	}
	var d *report.Digest
	err := sh.Save(files, out, func(w io.Writer) (err error) {
		d, err = report.View(w, f, form, table)
		return err
	})
	return d, err
}

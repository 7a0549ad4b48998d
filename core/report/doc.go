// Package report makes a record readable: as a page, a table, JUnit XML, text, hexadecimal, pcapng or
// Markdown. The same record always gives the same bytes, and one of any length is read a line at a time.
//
// [View] writes one form of a record and gives its [Digest], what the record says in sum. [Forms] are the
// forms that there are; each is a row in view.go. What is drawn is a chart of package chart: the functions
// that give one, such as [Trend] or [LoadCurve], say what is to be seen.
package report

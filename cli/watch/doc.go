// Package watch is the command that watches the values that modules report.
package watch

// Package prove is the commands that show what was found: the results in the ledger, reports of records.
package prove

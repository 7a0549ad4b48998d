// Package shell is what all commands share: the streams that they read and print to, exit statuses, flags
// that several have, and the grammar that holds for all of them.
package shell

// Package find is the commands that find out what is there: ports, loopback and probe.
package find

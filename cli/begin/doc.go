// Package begin is the commands to begin with: the demo and the examples.
package begin

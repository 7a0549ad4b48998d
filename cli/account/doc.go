// Package account tells a person what a run does while it goes on and what came of it, and asks that person
// where a procedure wants an answer.
package account

// Package write is the commands for what is written before a run: phrasebooks, procedures, schemas, the
// help of editors.
package write

package procedure

// inspect holds what is said against the phrasebooks.
func (p *parser) inspect() {}

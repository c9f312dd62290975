package step

// Kinds lists every kind of step, in the order in which people are offered them.
func Kinds() []Kind {
	return []Kind{
		validateKind, setKind, mapKind, writeKind, convertKind, filterKind, routeKind, splitKind, aggregateKind,
		resequenceKind, scatterKind, lookupKind, pairKind, onceKind, holdKind, paceKind, codeKind, askKind, subflowKind,
		deliverKind, answerKind, noteKind,
	}
}

// Find gives a kind by name.
func Find(name string) (Kind, bool) {
	for _, k := range Kinds() {
		if k.Name == name {
			return k, true
		}
	}
	return Kind{}, false
}

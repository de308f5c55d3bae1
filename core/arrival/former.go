package arrival

// UnmarshalText reads a state, also one by the name that it had in reports that were stored before the first release.
func (s *State) UnmarshalText(text []byte) error {
	former := map[string]State{"arrived": Settled, "on its way": Settling, "trouble": NeedsAction, "no site": NoAddress, "not looked at": NotChecked}
	if now, renamed := former[string(text)]; renamed {
		*s = now
	} else {
		*s = State(text)
	}
	return nil
}

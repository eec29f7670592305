package apitype

// CallTotal is how many calls a search finds, while they are counted.
type CallTotal struct {
	Found int  `json:"found" doc:"calls that are selected"`
	Seen  int  `json:"seen" doc:"calls that were gone through; 0 when it is done"`
	Done  bool `json:"done" doc:"there are no more"`

	Silent []string `json:"silent,omitempty" doc:"nodes whose calls could not be counted"`
}

package wicketway

import (
	"github.com/wicketway/wicketway/contract"
)

// Contract gives the OpenAPI document (3.1) of a version: its routes, and those outside of all versions. The version ""
// has the latter alone. It is made at the first question, and then kept: it is shared, and not to be changed. It returns
// an error for a version that the API does not have.
func (a *API) Contract(version string) (*contract.Document, error) {
	if made, has := a.contracts.Load(version); has {
		return made.(*contract.Document), nil
	}
	made, err := contract.Of(a.Describe(), version)
	if err != nil {
		return nil, err
	}
	first, _ := a.contracts.LoadOrStore(version, made)
	return first.(*contract.Document), nil
}

package service

import (
	"context"
	"encoding/json"

	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/wire"
)

// guardSetting is where lockouts and familiar addresses are kept over a restart.
const guardSetting = "guard"

// newCrowd is the room for connections that have not signed in. Where the system allows few
// open files, there is less of it: most are for what is inside.
func (s *Service) newCrowd(guard *signin.Guard) *wire.Crowd {
	crowd := wire.UsualCrowd()
	crowd.Most, crowd.Familiar = min(crowd.Most, max(8, openFiles()/4)), guard.Familiar
	crowd.Kept = min(crowd.Kept, crowd.Most/4)
	return crowd
}

// Bounds of the connections to web listeners, all of them and of one network.
const (
	maxWeb           = 256
	maxWebPerNetwork = 64
)

// newWebCrowd is the room for connections to web listeners.
func (s *Service) newWebCrowd() *wire.Crowd {
	most := min(maxWeb, max(8, openFiles()/8))
	return &wire.Crowd{Most: most, PerNetwork: min(maxWebPerNetwork, most/2), Kept: most / 4, Familiar: s.guard.Familiar}
}

// attempts is how many sign-ins one connection may try.
func (s *Service) attempts() int { return int(s.guard.Limits().Attempts) }

// recallGuard takes what outlived the last end.
func (s *Service) recallGuard(ctx context.Context) error {
	text, err := s.DB.Setting(ctx, guardSetting)
	if err != nil || text == "" {
		return err
	}
	var kept signin.Kept
	if err := json.Unmarshal([]byte(text), &kept); err != nil {
		s.log.Warn("who is locked out, and who is familiar, was not kept", "cause", err)
		return nil
	}
	s.guard.Recall(kept)
	return nil
}

// keepGuard keeps who is locked out and who is familiar.
func (s *Service) keepGuard() {
	kept, changed := s.guard.Keep()
	if !changed {
		return
	}
	text, err := json.Marshal(kept)
	if err == nil {
		err = s.DB.SaveSetting(context.Background(), guardSetting, string(text))
	}
	if err != nil {
		s.log.Warn("who is locked out, and who is familiar, could not be kept", "cause", err)
	}
}

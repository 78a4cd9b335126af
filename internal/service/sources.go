package service

import (
	"context"

	"urbankeep/internal/watch/metrics"
)

// sources tells the metrics whom to ask.
func (s *Service) sources() metrics.Sources {
	return metrics.Sources{
		Sessions: func() map[metrics.SessionKind]int {
			found := map[metrics.SessionKind]int{}
			for _, info := range s.Traffic.Sessions() {
				found[metrics.SessionKind{Protocol: info.Protocol, Encrypted: info.Encrypted}]++
			}
			return found
		},
		Transfers: func() int { _, running := s.Traffic.Counts(); return running },
		Moved:     s.Traffic.Moved,
		Trail:     s.Trail.Waiting,
		Collector: func() (int64, bool) {
			now := s.collector.State(context.Background())
			return now.Waiting, now.Connected || now.Address == ""
		},
		Ports:  s.ports,
		Stores: s.stores,
	}
}

func (s *Service) ports() []metrics.Ports {
	listeners, err := s.DB.Listeners(context.Background())
	if err != nil {
		return nil
	}
	var found []metrics.Ports
	for _, l := range listeners {
		if l.PassiveLow > 0 {
			_, taken, refused := s.Watch(l.Name)
			found = append(found, metrics.Ports{Listener: l.Name, Taken: taken, Refused: refused, Most: l.PassiveHigh - l.PassiveLow + 1})
		}
	}
	return found
}

func (s *Service) stores() []metrics.Store {
	stores, err := s.DB.Stores(context.Background())
	if err != nil {
		return nil
	}
	var found []metrics.Store
	for _, st := range stores {
		h := s.Stores.Health(st)
		one := metrics.Store{Store: st.Name, Kind: st.Kind, Away: h.Away != nil || h.Closed != nil, Free: h.Space.FreeBytes, Bytes: h.Space.Bytes}
		found = append(found, one)
	}
	return found
}

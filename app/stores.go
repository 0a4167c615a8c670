package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
)

// stores are the profiles' stores, each opened once.
type stores struct {
	from Stores

	mu   sync.Mutex // guards open
	open map[string]Store
}

func (s *stores) ids(ctx context.Context) ([]string, error) {
	ids, err := s.from.List(ctx)
	if err != nil {
		return nil, fmt.Errorf("failed to list the profiles: %w", err)
	}
	return ids, nil
}

func (s *stores) get(ctx context.Context, id string) (Store, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if open, ok := s.open[id]; ok {
		return open, nil
	}
	open, err := s.from.Open(ctx, id)
	if err != nil {
		return nil, err
	}
	s.open[id] = open
	return open, nil
}

// create makes a store and fills it; if that fails nothing is left.
func (s *stores) create(ctx context.Context, id string, fill func(Store) error) (Store, error) {
	made, err := s.from.Create(ctx, id, fill)
	if err != nil {
		return nil, fmt.Errorf("failed to set up the profile: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open[id] = made
	return made, nil
}

func (s *stores) remove(ctx context.Context, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if open, ok := s.open[id]; ok {
		delete(s.open, id)
		_ = open.Close()
	}
	return s.from.Remove(ctx, id)
}

func (s *stores) closeAll() (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, open := range s.open {
		err = errors.Join(err, open.Close())
	}
	clear(s.open)
	return err
}

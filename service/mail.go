package service

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"missivum/core/rule"
	"missivum/service/access"
	"missivum/service/gateway"
)

// renewal is how often the gateway in the service looks whether other rules are in force.
const renewal = 2 * time.Second

// openGateway opens the gateway in the service, if one is wanted.
func (s *Service) openGateway(ctx context.Context) error {
	c := s.config.Gateway
	if c.Milter == "" && c.SMTP == "" {
		return nil
	}
	c.Log, c.Now = s.config.Log, s.config.Now
	rules, err := s.rulesInForce(ctx)
	if err != nil {
		return fmt.Errorf("the mail rules: %w", err)
	}
	if c.Ledger, err = gateway.OpenLedger(filepath.Join(s.config.Data, "gateway.ledger"), s.config.Now()); err != nil {
		return err
	}
	if s.gateway, err = gateway.New(c, rules); err != nil {
		return errors.Join(err, c.Ledger.Close())
	}
	s.ledger = c.Ledger
	s.gateway.Reporting()
	return nil
}

// rulesInForce is what the gateway uses.
func (s *Service) rulesInForce(ctx context.Context) (gateway.Rules, error) {
	engine, name, err := s.Rules.InForce(ctx)
	return gateway.Rules{Engine: engine, Bundle: name}, err
}

// GatewayAddress is where the milter or the relay (smtp) listens; blank where it does not.
func (s *Service) GatewayAddress(way string) string {
	if s.gateway == nil {
		return ""
	}
	return s.gateway.Address(way)
}

// runGateway serves mail until the context ends. Other rules are taken when they are in force, and on a new day; while the database
// does not answer, those before stay, and what was done waits to be kept.
func (s *Service) runGateway(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return s.gateway.Run(ctx) })
	group.Go(func() error {
		return s.gateway.Report(access.With(ctx, access.Itself("gateway")), s.config.Version,
			func(ctx context.Context, r rule.GatewayReport) error { return s.Messages.Take(ctx, r) })
	})
	group.Go(func() error {
		tick := time.NewTicker(renewal)
		defer tick.Stop()
		var last *rule.Engine
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-tick.C:
			}
			rules, err := s.rulesInForce(ctx)
			switch {
			case err != nil && ctx.Err() == nil:
				s.config.Log.Error("the mail rules were not read again; those before stay in force", "error", err)
			case err == nil && rules.Engine != last:
				s.gateway.Use(rules)
				if last != nil {
					s.config.Log.Info("the mail rules were read again", "bundle", rules.Bundle)
				}
				last = rules.Engine
			}
		}
	})
	return errors.Join(group.Wait(), s.ledger.Close())
}

package app

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bouncer/internal/control/notify"
	"bouncer/internal/locker"
	"bouncer/internal/mail"
)

// openMail begins to tell people by mail, where there is a mail server.
func (svc *Service) openMail(ctx context.Context) error {
	o := notify.Options{
		Store: svc.store, Console: svc.Address, Masker: svc.masks.Masker, Log: svc.log, Now: svc.Settings.Now,
		Room: func() notify.Room { return svc.held }, First: svc.several.First,
	}
	if svc.Settings.Mail.Server != "" {
		sender, err := svc.mailSender(ctx)
		if err != nil {
			return &StartError{
				fmt.Sprintf("mail cannot be sent: %v", err),
				"check the settings mail-server, mail-from, mail-user and mail-password",
				err,
			}
		}
		o.Sender = sender
	}
	svc.mails = notify.New(o)
	svc.mails.Start()
	return nil
}

func (svc *Service) mailSender(ctx context.Context) (*mail.Sender, error) {
	s := svc.Settings.Mail
	o := mail.Options{Server: s.Server, From: s.From, User: s.User}
	if s.From == "" {
		return nil, errors.New("it is not said which address it comes from")
	}
	if s.Password != "" {
		raw, err := locker.Outside(ctx, s.Password)
		if err != nil {
			return nil, fmt.Errorf("read the password: %w", err)
		}
		o.Password = strings.TrimSpace(raw.Reveal())
		svc.masks.Learn(o.Password)
	}
	if (o.User == "") != (o.Password == "") {
		return nil, errors.New("a name and a password are given together")
	}
	return mail.New(o)
}

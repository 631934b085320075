frontend "web" {
  listen = "0.0.0.0:443"
  # file /var/lib/kestrix/acme/tickets.tern.example /var/lib/kestrix/acme/tickets.tern.example names=tickets.tern.example from=-80d until=10d mode=0600
  tls {
    acme {
      names        = ["tickets.tern.example"] # want: the certificate for tickets.tern.example in /var/lib/kestrix/acme is not renewed | expires on 2026-12-03, in 10 days
      directory    = "https://ca.tern.example/directory"
      storage      = "/var/lib/kestrix/acme"
      terms_agreed = true
    }
  }
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}

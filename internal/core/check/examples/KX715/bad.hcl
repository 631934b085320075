frontend "web" {
  listen = "0.0.0.0:8443"
  tls {
    acme { # want: nothing listens on port 443 or 80 for the challenges of "web" | a challenge that fails
      names        = ["tickets.tern.example"]
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

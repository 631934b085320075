frontend "web" {
  listen = "0.0.0.0:8080"
  # file tickets.pem tickets.key names=tickets.tern.example from=-400d until=-35d mode=0600
  tls {
    certificate = "tickets.pem" # want: has expired | 35 days ago
    key         = "tickets.key"
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

control {
  listen = "0.0.0.0:9900"
  # file tickets.pem tickets.key names=tickets.tern.example from=-10d until=300d mode=0600
  tls {
    certificate = "tickets.pem"
    key         = "tickets.key"
  }
  user "mary" {
    password = "$2a$12$R9h/cIPz0gi.URNNX3kh2OPST9/PgBkqquzi.Ss7KIUgO2t0jWMUW"
  }
}
frontend "web" {
  listen = "0.0.0.0:8080"
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

frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" { # want: the probe of "app" passes with 302 | an answer 302 to /login passes, whatever its target is
    path   = "/ready"
    expect = { status = ["200-399"] }
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}

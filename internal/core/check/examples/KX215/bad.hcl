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
  probe "http" { # want: "ready" does not match an answer that ends with a line feed | the answer "ready\n" fails the probe
    path   = "/ready"
    expect = { body = "ready" }
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}

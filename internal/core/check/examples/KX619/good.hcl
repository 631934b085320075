# file site.pem site.key until=300d
frontend "web" {
  listen = "0.0.0.0:443"
  tls {
    certificate = "site.pem"
    key         = "site.key"
    alpn        = ["h2", "http/1.1"]
  }
  route "live" {
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

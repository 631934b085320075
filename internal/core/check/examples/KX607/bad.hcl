frontend "web" {
  listen = "0.0.0.0:8080" # want: trusted_proxies is empty | closed before its first byte
  proxy_protocol = true
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

frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
# kestrix: allow KX201 because the demo has no probe on purpose
upstream "app" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}

frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = 9001 # want: a backend is an address or an object
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
}

frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "0.0.0.0:9001" # want: "auk" has the address 0.0.0.0:9001, which is no server's address | on Linux a connection to it reaches 127.0.0.1:9001
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

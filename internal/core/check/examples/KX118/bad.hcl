frontend "web" {
  listen = "0.0.0.0:8080"
  route "office" {
    when {
      path   = "/admin/**"
      client = "198.51.100.0/24" # want: "rest" sends the clients that "office" excludes to the same upstream "app" | GET http://tern.example/admin from 203.0.113.9 goes to "app" by "rest"
    }
    send_to = upstream.app
  }
  route "rest" {
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

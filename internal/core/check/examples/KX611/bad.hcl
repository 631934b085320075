frontend "web" {
  listen = "0.0.0.0:8080"
  route "uploads" { # want: "uploads" forwards the prefix /shop, which "shop" drops for the same upstream "app" | GET http://tern.example/shop/uploads is passed on as /shop/uploads
    when {
      path = "/shop/uploads/**"
    }
    limits {
      body_size = "1GiB"
    }
    send_to = upstream.app
  }
  route "shop" {
    when {
      path = "/shop/**"
    }
    rewrite {
      drop_prefix = "/shop"
    }
    send_to = upstream.app
  }
  route "rest" {
    reply {
      status = 404
      body   = "there is no such page\n"
    }
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

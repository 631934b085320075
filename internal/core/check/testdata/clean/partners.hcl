# Partners sell tickets of Tern Line: each with a key in a header field, some from
# addresses that are known, all with a rate.
frontend "partners" {
  listen = "0.0.0.0:8443"

  tls {
    certificate = "partners.pem"
    key         = "partners.key"
  }

  limits {
    header_size = "16KiB"
    body_size   = "256KiB"
    rate        = "100/s"
    burst       = 300
  }

  errors {
    form = "problem"
  }

  route "inside-only" {
    when {
      path   = "/v2/ledger/**"
      client = not("198.51.100.0/24")
    }
    reply {
      status = 403
      body   = "only from the office\n"
    }
  }

  route "without-key" {
    when {
      path   = "/v2/**"
      header = { "X-Partner-Key" = not("*") }
    }
    reply {
      status = 401
      body   = "a key is wanted\n"
    }
  }

  route "search" {
    when {
      path   = "/v2/search"
      method = "GET"
      query  = { from = "*", to = "*" }
    }
    send_to = upstream.search

    limits {
      rate  = "20/s"
      burst = 60
    }
  }

  route "orders" {
    when {
      path = "/v2/**"
    }
    send_to = upstream.orders
  }

  route "old" {
    when {
      path = "/v1/**"
    }
    redirect {
      to     = "https://partners.tern.example/v2/"
      status = 303
    }
  }

  route "rest" {
    reply {
      status = 404
      body   = "there is no such page\n"
    }
  }
}

upstream "search" {
  algorithm = "two-choices"

  backends = {
    skua = { address = "192.0.2.101:8080", max_in_flight = 50 }
    shag = { address = "192.0.2.102:8080", max_in_flight = 50 }
    knot = { address = "192.0.2.103:8080", max_in_flight = 50 }
  }

  queue {
    limit   = 50
    timeout = "2s"
  }

  probe "http" {
    path       = "/ready"
    every      = "3s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  suspend {
    after = 5
    rest  = "5s"
    keep  = "50%"
    on    = ["connect", "timeout", "reset", "502", "503"]
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "503"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "4s"
  }
}

upstream "orders" {
  algorithm = "least-connections"

  backends = {
    auk    = "192.0.2.111:8080"
    gannet = "192.0.2.112:8080"
  }

  probe "http" {
    path       = "/ready"
    every      = "3s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "1s"
    answer  = "15s"
  }
}

# Behind the relays of the harbour, which end TLS and name the client in
# Forwarded. What is alike stands in common.
trusted_proxies = ["198.51.100.0/28", "2001:db8:7::/64"]
client_from     = "forwarded"

let {
  pool = 8080
}

common {
  frontend {
    limits {
      header_size = "32KiB"
      body_size   = "2MiB"
    }
  }

  upstream {
    algorithm = "least-connections"

    probe "http" {
      path       = "/ready"
      every      = "2s"
      timeout    = "1s"
      down_after = 2
      up_after   = 3
    }

    retry {
      attempts = 2
      on       = ["connect", "reset"]
    }

    timeouts {
      connect = "1s"
      answer  = "10s"
    }
  }
}

frontend "site" {
  listen = "192.0.2.4:${let.pool}"

  route "to-tls" {
    when {
      header = { "Forwarded" = "*proto=http" }
    }
    redirect {
      to     = "https://{host}{path}"
      status = 308
    }
  }

  route "new-shop" {
    when {
      any {
        cookie = { shop = "new" }
      }
      any {
        client = "203.0.113.0/28"
      }
    }
    send_to = upstream.new-shop
  }

  route "shop" {
    send_to = upstream.shop
  }
}

upstream "shop" {
  backends = {
    auk    = "192.0.2.161:8080"
    gannet = "192.0.2.162:8080"
    petrel = "192.0.2.163:8080"
  }
}

upstream "new-shop" {
  backends = {
    skua = "192.0.2.171:8080"
    shag = "192.0.2.172:8080"
  }
}

control {
  listen = "127.0.0.1:9900"
}

access_log {
  to     = "stdout"
  format = "json"
}

limits {
  connections_total = 20000
}

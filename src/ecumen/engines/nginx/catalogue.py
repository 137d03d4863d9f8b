"""Which directives leave an answer as it is. Whatever stands neither here nor among those that are
evaluated makes the requests in its reach unsure.

An answer is: the site, the status, the Location, the content type, the file and the log.
"""

from __future__ import annotations

NO_EFFECT = frozenset(
    """
    accept_mutex accept_mutex_delay add_before_body add_trailer aio aio_write ancient_browser
    ancient_browser_value autoindex_exact_size autoindex_localtime chunked_transfer_encoding
    client_body_buffer_size client_body_in_file_only client_body_in_single_buffer
    client_body_temp_path client_body_timeout client_header_buffer_size client_header_timeout
    client_max_body_size connection_pool_size daemon debug_connection debug_points
    default_language directio directio_alignment env events
    gunzip gunzip_buffers gzip gzip_buffers gzip_comp_level gzip_disable gzip_http_version
    gzip_min_length gzip_proxied gzip_types gzip_vary hash if_modified_since
    keepalive keepalive_disable keepalive_requests keepalive_time
    keepalive_timeout large_client_header_buffers limit_conn limit_conn_log_level
    limit_conn_status limit_conn_zone limit_rate limit_rate_after limit_req limit_req_dry_run
    limit_req_log_level limit_req_status limit_req_zone limit_zone lingering_close
    lingering_time lingering_timeout load_module lock_file log_format log_not_found
    log_subrequest master_process max_ranges mirror mirror_request_body msie_padding
    multi_accept open_file_cache open_file_cache_errors open_file_cache_min_uses
    open_file_cache_valid open_log_file_cache output_buffers pcre_jit pid postpone_output
    read_ahead request_pool_size reset_timedout_connection resolver resolver_timeout
    rewrite_log send_lowat send_timeout sendfile sendfile_max_chunk
    server_names_hash_bucket_size
    server_names_hash_max_size server_tokens ssi_types sub_filter sub_filter_once
    sub_filter_types sub_filter_last_modified subrequest_output_buffer_size tcp_nodelay
    tcp_nopush thread_pool timer_resolution types_hash_bucket_size types_hash_max_size
    use user variables_hash_bucket_size variables_hash_max_size
    worker_aio_requests worker_connections worker_cpu_affinity worker_priority
    override_charset worker_processes worker_rlimit_core worker_rlimit_nofile
    worker_shutdown_timeout working_directory zone map_hash_bucket_size map_hash_max_size
    uninitialized_variable_warn
    http2_push http2_push_preload auth_delay real_ip_header real_ip_recursive
    http2_max_concurrent_streams proxy_headers_hash_max_size
    proxy_headers_hash_bucket_size min_delete_depth create_full_put_path
    dav_access post_action addition_types add_after_body auth_request_set charset_map gzip_hash
    gzip_no_buffer gzip_window postpone_gzipping limit_conn_dry_run modern_browser
    modern_browser_value open_file_cache_events referer_hash_bucket_size referer_hash_max_size
    secure_link secure_link_md5 secure_link_secret source_charset ssi_ignore_recycled_buffers
    ssi_last_modified ssi_min_file_chunk ssi_silent_errors ssi_value_length userid userid_domain
    userid_expires userid_flags userid_mark userid_name userid_p3p userid_path userid_service
""".split()
)
# Families about the connection to an upstream, about TLS or caches, but not who answers.
_FAMILIES = (
    "proxy_", "fastcgi_", "uwsgi_", "scgi_", "grpc_", "memcached_", "ssl_", "http2_", "mp4_",
    "xslt_", "image_filter", "geoip_",
)  # fmt: skip
_BUT = frozenset(
    ("proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass",
     "proxy_intercept_errors", "fastcgi_intercept_errors", "ssl_reject_handshake", "image_filter",
     "ssl_verify_client", "proxy_store", "fastcgi_store")
)  # fmt: skip
_AS_SHIPPED = {
    "set_real_ip_from": (),
    # What comes of it is worked out where a request of TLS arrives.
    "ssl_verify_client": ("off", "on", "optional", "optional_no_ca"),
    "proxy_intercept_errors": ("off", "on"),
    "fastcgi_intercept_errors": ("off", "on"),
    "gzip_static": ("off", "on"),
    "slice": ("0",),
    "ssi": ("off",),
}


def leaves_answer(name: str, args: tuple[str, ...]) -> bool:
    """Whether a directive leaves an answer as it is."""
    if name in _AS_SHIPPED:
        return bool(args) and args[0] in _AS_SHIPPED[name]
    return name in NO_EFFECT or (name.startswith(_FAMILIES) and name not in _BUT)

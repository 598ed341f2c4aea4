//! Functions that compute a value from their arguments, or tell of the session, and reach nothing else: no file, no other server, no other
//! session, no text that would be carried out. Sources: the function references of MySQL 8, MariaDB 11, PostgreSQL 17 with the contrib
//! modules that content systems use, and SQLite 3.
//!
//! Not on them, with reason: `load_file`, `sleep`, `benchmark`, locks and waits of MySQL; of PostgreSQL all of `pg_…` but the few listed,
//! large objects, what takes a query as text (`query_to_xml` and kin, `ts_stat`, `ts_rewrite`), `set_config`, `dblink`; of SQLite
//! `load_extension`, `readfile`, `writefile`, `edit`, `fts3_tokenizer`.

/// Says whether a list of words holds one.
pub(super) fn has(list: &str, word: &str) -> bool {
    list.split_ascii_whitespace().any(|w| w == word)
}

/// MySQL and MariaDB, in lower case.
pub(super) fn mysql(call: &str) -> bool {
    has(MYSQL, call) || ["st_", "json_", "mbr", "vec_"].iter().any(|family| call.starts_with(family))
}

const MYSQL: &str = "
abs acos add_months adddate addtime aes_decrypt aes_encrypt any_value area ascii asbinary asin astext aswkb aswkt atan atan2 avg
bin bin_to_uuid binlog_gtid_pos bit_and bit_count bit_length bit_or bit_xor boundary buffer cast ceil ceiling centroid char char_length
character_length charset chr coalesce coercibility collation column_add column_check column_create column_delete column_exists column_get
column_json column_list compress concat concat_ws connection_id contains conv convert convert_tz convexhull cos cot count crc32 crc32c crosses cume_dist
curdate current_date current_role current_time current_timestamp current_user currval curtime database date date_add date_format date_sub
datediff day dayname dayofmonth dayofweek dayofyear decode default degrees dense_rank des_decrypt des_encrypt dimension disjoint distance
elt encode encrypt endpoint envelope equals exp export_set exteriorring extract extractvalue field find_in_set first_value floor format
format_bytes format_pico_time found_rows from_base64 from_days from_unixtime geomcollfromtext geomcollfromwkb geometrycollection
geometrycollectionfromtext geometrycollectionfromwkb geometryfromtext geometryfromwkb geometryn geometrytype geomfromtext geomfromwkb
get_format glength greatest group_concat grouping hex hour if ifnull inet6_aton inet6_ntoa inet_aton inet_ntoa insert instr interiorringn
intersects interval is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6 is_uuid isclosed isempty isnull isring issimple kdf lag last_day
last_insert_id last_value lastval lcase lead least left length lengthb linefromtext linefromwkb linestring linestringfromtext
linestringfromwkb ln localtime localtimestamp locate log log10 log2 lower lpad ltrim make_set makedate maketime max md5 median microsecond
mid min minute mlinefromtext mlinefromwkb mod month monthname months_between mpointfromtext mpointfromwkb mpolyfromtext mpolyfromwkb
multilinestring multilinestringfromtext multilinestringfromwkb multipoint multipointfromtext multipointfromwkb multipolygon
multipolygonfromtext multipolygonfromwkb name_const natural_sort_key nextval now nth_value ntile nullif numgeometries numinteriorrings
numpoints nvl nvl2 oct octet_length old_password ord overlaps password percent_rank percentile_cont percentile_disc period_add period_diff pi
point pointfromtext pointfromwkb pointn pointonsurface polyfromtext polyfromwkb polygon polygonfromtext polygonfromwkb position pow power
quarter quote radians rand random_bytes rank regexp_instr regexp_like regexp_replace regexp_substr repeat replace reverse right round
row_count row_number rpad rtrim schema sec_to_time second session_user sformat sha sha1 sha2 sign sin soundex space sqrt srid startpoint
std stddev stddev_pop stddev_samp str_to_date strcmp subdate substr substring substring_index subtime sum sys_guid sysdate system_user tan time
time_format time_to_sec timediff timestamp timestampadd timestampdiff to_base64 to_char to_days to_number to_seconds touches trim truncate
ucase uncompress uncompressed_length unhex unix_timestamp updatexml upper user utc_date utc_time utc_timestamp uuid uuid_short uuid_to_bin
uuid_v4 uuid_v7 value values var_pop var_samp variance version week weekday weekofyear weight_string within x y year yearweek";

/// What a stored body of MySQL's may call as well: it bothers nobody else while it is only stored.
pub(super) const MYSQL_STORED: &str =
    "get_lock is_free_lock is_used_lock release_all_locks release_lock setval sleep";

/// PostgreSQL, in lower case.
pub(super) fn postgres(call: &str) -> bool {
    const FAMILIES: [&str; 5] = ["json_", "jsonb_", "array_", "regexp_", "regr_"];
    has(POSTGRES, call) || has(EXTENSIONS, call) || FAMILIES.iter().any(|family| call.starts_with(family))
}

const POSTGRES: &str = "
abbrev abs acos acosd acosh age any_value area ascii asin asind asinh atan atan2 atan2d atand atanh avg bit bit_and bit_count bit_length
bit_or bit_xor bool bool_and bool_or boolean bound_box box bpchar broadcast btrim bytea cardinality cash cast cbrt ceil ceiling center
char char_length character character_length chr circle clock_timestamp coalesce col_description concat concat_ws convert convert_from
convert_to corr cos cosd cosh cot cotd count covar_pop covar_samp crc32 crc32c cume_dist current_catalog current_database current_date
current_query current_role current_schema current_schemas current_setting current_time current_timestamp current_user currval date
date_add date_bin date_part date_subtract date_trunc daterange datemultirange decode degrees dense_rank diagonal diameter div
encode enum_first enum_last enum_range erf erfc every exp extract factorial family first_value float4 float8 floor format format_type
gamma gcd gen_random_uuid generate_series generate_subscripts get_bit get_byte get_current_ts_config greatest grouping has_any_column_privilege
has_column_privilege has_schema_privilege has_table_privilege height host hostmask inet inet_client_addr inet_client_port inet_merge
inet_same_family inet_server_addr initcap int int2 int4 int4range int4multirange int8 int8range int8multirange integer interval isclosed isempty isfinite
ishorizontal isopen isparallel isperp isvertical jsonb json justify_days justify_hours justify_interval lag last_value lastval lcm lead
least left length lgamma line localtime localtimestamp log log10 lower lower_inc lower_inf lpad lseg ltrim macaddr macaddr8 macaddr8_set7bit
make_date make_interval make_time make_timestamp make_timestamptz masklen max md5 merge_action min min_scale mod mode money multirange name
netmask network nextval normalize now npoints nth_value ntile nullif num_nonnulls num_nulls numeric nummultirange numnode numrange
obj_description octet_length oid overlay parse_ident path pclose percent_rank percentile_cont percentile_disc pg_client_encoding
pg_column_size pg_size_pretty pg_trigger_depth pg_typeof phraseto_tsquery pi plainto_tsquery point polygon popen position power
quote_ident quote_literal quote_nullable radians radius random random_normal range_agg range_intersect_agg range_merge rank real regclass
regexp repeat replace reverse right round row row_number row_security_active row_to_json rpad rtrim scale session_user set_bit set_byte
set_masklen setseed setweight sha224 sha256 sha384 sha512 shobj_description sign similar_escape similar_to_escape sin sind sinh slope split_part sqrt starts_with
statement_timestamp stddev stddev_pop stddev_samp string_agg string_to_array string_to_table strip strpos substr substring sum system_user
tan tand tanh text time timeofday timestamp timestamptz timetz timezone to_ascii to_bin to_char to_date to_hex to_json to_jsonb to_number
to_oct to_regclass to_regtype to_timestamp to_tsquery to_tsvector transaction_timestamp translate trim trim_array trim_scale trunc
ts_delete ts_filter ts_headline ts_lexize ts_rank ts_rank_cd tsquery tsquery_phrase tsrange tsmultirange tstzrange tstzmultirange tsvector tsvector_to_array
txid_current unistr unnest upper upper_inc upper_inf user uuid uuid_extract_timestamp uuid_extract_version uuidv4 uuidv7 var_pop var_samp
varbit varchar variance version websearch_to_tsquery width width_bucket xml xml_is_well_formed xml_is_well_formed_content
xml_is_well_formed_document xmlagg xmlcomment xmlconcat xmlelement xmlexists xmlforest xmlparse xmlpi xmlroot xmlserialize xpath
xpath_exists collation xmltable xmlnamespaces overlaps treat";

/// What the allowed extensions bring.
const EXTENSIONS: &str = "
citext regexp_match regexp_matches strpos hstore akeys avals skeys svals each exist defined delete slice hstore_to_array hstore_to_json hstore_to_json_loose
hstore_to_jsonb hstore_to_jsonb_loose hstore_to_matrix populate_record tconvert similarity show_trgm word_similarity strict_word_similarity
show_limit unaccent unaccent_lexize uuid_generate_v1 uuid_generate_v1mc uuid_generate_v3 uuid_generate_v4 uuid_generate_v5 uuid_nil uuid_ns_dns uuid_ns_oid
uuid_ns_url uuid_ns_x500 armor crypt dearmor decrypt decrypt_iv digest encrypt encrypt_iv gen_random_bytes gen_salt hmac pgp_armor_headers
pgp_key_id pgp_pub_decrypt pgp_pub_decrypt_bytea pgp_pub_encrypt pgp_pub_encrypt_bytea pgp_sym_decrypt pgp_sym_decrypt_bytea
pgp_sym_encrypt pgp_sym_encrypt_bytea difference dmetaphone dmetaphone_alt levenshtein levenshtein_less_equal metaphone soundex daitch_mokotoff text_soundex
icount idx intset querytree sort sort_asc sort_desc subarray uniq index lca ltree2text nlevel subltree subpath text2ltree ltree
cube cube_dim cube_distance cube_enlarge cube_inter cube_is_point cube_ll_coord cube_subset cube_union cube_ur_coord earth earth_box
earth_distance latitude ll_to_earth longitude gc_to_sec sec_to_gc is_valid isn_weak make_valid";

/// Extensions whose functions reach neither files nor other servers.
pub(super) const POSTGRES_EXTENSIONS: &str = "
citext hstore pg_trgm unaccent uuid-ossp pgcrypto btree_gin btree_gist fuzzystrmatch intarray ltree plpgsql cube earthdistance isn";

/// Functions that triggers of PostgreSQL call and that come with it.
pub(super) const POSTGRES_TRIGGERS: &str =
    "suppress_redundant_updates_trigger tsvector_update_trigger tsvector_update_trigger_column";

/// SQLite, in lower case.
pub(super) fn sqlite(call: &str) -> bool {
    has(SQLITE, call) || call.starts_with("json")
}

const SQLITE: &str = "
abs acos acosh asin asinh atan atan2 atanh avg cast ceil ceiling changes char coalesce concat concat_ws cos cosh count cume_dist current_date
current_time current_timestamp date datetime degrees dense_rank exp first_value floor format glob group_concat hex highlight bm25 snippet
matchinfo offsets rank iif if ifnull instr julianday lag last_insert_rowid last_value lead length like likelihood likely ln log log10 log2 lower
ltrim max median min mod nth_value ntile nullif octet_length percent_rank percentile percentile_cont percentile_disc pi pow power printf
quote radians random randomblob replace round row_number rtrim sign sin sinh soundex sqrt strftime string_agg subsec substr substring sum tan
tanh time timediff total total_changes trim trunc typeof unhex unicode unistr unistr_quote unixepoch unlikely upper zeroblob regexp raise";

CREATE TABLE `__diesel_schema_migrations` (
  `version` varchar(50) NOT NULL,
  `run_on` timestamp NOT NULL DEFAULT current_timestamp(),
  PRIMARY KEY (`version`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `__diesel_schema_migrations` (`version`, `run_on`) VALUES ('20261123000000','2026-11-28 01:56:57'),
('20261123200000','2026-11-28 01:56:57'),
('20261123230000','2026-11-28 01:56:57'),
('20261125100000','2026-11-28 01:56:57'),
('20261125200000','2026-11-28 01:56:57');
CREATE TABLE `changes` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `label` varchar(255) NOT NULL,
  `fields` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`fields`)),
  `state` tinyint(3) unsigned NOT NULL DEFAULT 0,
  `made_at` datetime(3) NOT NULL DEFAULT current_timestamp(3),
  PRIMARY KEY (`id`),
  KEY `instrument_id` (`instrument_id`,`state`),
  CONSTRAINT `changes_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB AUTO_INCREMENT=4 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `changes` (`id`, `instrument_id`, `label`, `fields`, `state`, `made_at`) VALUES (1,1,'change the plan','[{\"target\":\"instrument\",\"fact\":\"plan\",\"before\":\"automatic\",\"after\":{\"value\":{\"kind\": \"struck\", \"source\": {\"how\": \"by_hand\", \"rig\": \"slate-chimes\", \"channel\": 1, \"bank\": null, \"program\": 1}, \"rate_hz\": 48000, \"bits\": 24, \"channels\": 2, \"mics\": [], \"passes\": [{\"name\": \"Bars\", \"sounds_on\": \"key_down\", \"rungs\": [60, 66], \"layers\": [{\"name\": \"soft\", \"strike_velocity\": 40, \"round_robins\": null, \"low_velocity\": null}, {\"name\": \"hard\", \"strike_velocity\": 110, \"round_robins\": null, \"low_velocity\": null}], \"round_robins\": 1, \"hold_ms\": 2000, \"hold_high_ms\": null, \"tail_ms\": 9000, \"controller\": null, \"chord\": []}]}}}]',0,'2026-11-28 01:56:57.563'),
(2,1,'change the keys below','[{\"target\":\"instrument\",\"fact\":\"map\",\"before\":\"automatic\",\"after\":{\"value\":{\"furthest_stretch_keys\":24,\"below_keys\":7,\"above_keys\":9}}}]',0,'2026-11-28 01:56:57.563'),
(3,1,'set the level','[{\"target\":{\"take\":1},\"fact\":\"gain_db\",\"before\":\"automatic\",\"after\":{\"value\":-3.5}}]',0,'2026-11-28 01:56:57.563'),
(4,1,'plan it otherwise','[{\"target\":\"instrument\",\"fact\":\"plan\",\"before\":\"automatic\",\"after\":{\"value\":{}}}]',1,'2026-11-25 02:00:00.000'),
(5,1,'plan it at last','[{\"target\":\"instrument\",\"fact\":\"plan\",\"before\":\"automatic\",\"after\":{\"value\":{}}}]',2,'2026-11-25 02:00:01.000');
CREATE TABLE `cleaned_levels` (
  `take_id` bigint(20) unsigned NOT NULL,
  `name` char(16) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `levels` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`levels`)),
  PRIMARY KEY (`take_id`,`name`),
  CONSTRAINT `cleaned_levels_ibfk_1` FOREIGN KEY (`take_id`) REFERENCES `takes` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `event_order` (
  `one` tinyint(3) unsigned NOT NULL,
  `last` bigint(20) unsigned NOT NULL,
  PRIMARY KEY (`one`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `event_order` (`one`, `last`) VALUES (1,0);
CREATE TABLE `events` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `kind` varchar(32) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `body` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`body`)),
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `facts` (
  `instrument_id` bigint(20) unsigned NOT NULL,
  `target` bigint(20) unsigned NOT NULL,
  `fact` varchar(32) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `value` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`value`)),
  PRIMARY KEY (`instrument_id`,`target`,`fact`),
  CONSTRAINT `facts_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `facts` (`instrument_id`, `target`, `fact`, `value`) VALUES (1,0,'map','{\"furthest_stretch_keys\":24,\"below_keys\":7,\"above_keys\":9}'),
(1,0,'name','\"Chimes of slate\"'),
(1,0,'plan','{\"kind\": \"struck\", \"source\": {\"how\": \"by_hand\", \"rig\": \"slate-chimes\", \"channel\": 1, \"bank\": null, \"program\": 1}, \"rate_hz\": 48000, \"bits\": 24, \"channels\": 2, \"mics\": [], \"passes\": [{\"name\": \"Bars\", \"sounds_on\": \"key_down\", \"rungs\": [60, 66], \"layers\": [{\"name\": \"soft\", \"strike_velocity\": 40, \"round_robins\": null, \"low_velocity\": null}, {\"name\": \"hard\", \"strike_velocity\": 110, \"round_robins\": null, \"low_velocity\": null}], \"round_robins\": 1, \"hold_ms\": 2000, \"hold_high_ms\": null, \"tail_ms\": 9000, \"controller\": null, \"chord\": []}]}'),
(1,1,'gain_db','-3.5'),
(1,1,'slices','{\"slices\":[{\"first_frame\":10,\"end_frame\":90,\"key\":60,\"cents\":null,\"in_tail\":false,\"left_out\":false}]}'),
(1,2,'chosen','true');
CREATE TABLE `instruments` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `name` varchar(255) NOT NULL,
  `plan` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`plan`)),
  `kept_at` datetime(3) NOT NULL DEFAULT current_timestamp(3),
  PRIMARY KEY (`id`)
) ENGINE=InnoDB AUTO_INCREMENT=3 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `instruments` (`id`, `name`, `plan`, `kept_at`) VALUES (1,'Slate chimes','{\"kind\":\"struck\",\"source\":{\"how\":\"by_hand\",\"rig\":\"slate-chimes\",\"channel\":1,\"bank\":null,\"program\":1},\"rate_hz\":48000,\"bits\":24,\"channels\":2,\"mics\":[],\"passes\":[{\"name\":\"Bars\",\"sounds_on\":\"key_down\",\"rungs\":[60,66],\"layers\":[{\"name\":\"soft\",\"strike_velocity\":40,\"round_robins\":null,\"low_velocity\":null},{\"name\":\"hard\",\"strike_velocity\":110,\"round_robins\":null,\"low_velocity\":null}],\"round_robins\":1,\"hold_ms\":2000,\"hold_high_ms\":null,\"tail_ms\":3000,\"controller\":null,\"chord\":[]}]}','2026-11-28 01:56:57.555'),
(2,'Parlour reed organ','{\"kind\":\"struck\",\"source\":{\"how\":\"by_hand\",\"rig\":\"slate-chimes\",\"channel\":1,\"bank\":null,\"program\":1},\"rate_hz\":48000,\"bits\":24,\"channels\":2,\"mics\":[],\"passes\":[{\"name\":\"Bars\",\"sounds_on\":\"key_down\",\"rungs\":[60,66],\"layers\":[{\"name\":\"soft\",\"strike_velocity\":40,\"round_robins\":null,\"low_velocity\":null},{\"name\":\"hard\",\"strike_velocity\":110,\"round_robins\":null,\"low_velocity\":null}],\"round_robins\":1,\"hold_ms\":2000,\"hold_high_ms\":null,\"tail_ms\":3000,\"controller\":null,\"chord\":[]}]}','2026-11-28 01:56:57.555');
CREATE TABLE `jobs` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `kind` varchar(32) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `input` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`input`)),
  `state` varchar(16) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL DEFAULT 'waiting',
  `holder` varchar(96) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL DEFAULT '',
  `lease_until` datetime(3) DEFAULT NULL,
  `share` double NOT NULL DEFAULT 0,
  `result` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL CHECK (json_valid(`result`)),
  `error` text DEFAULT NULL,
  `tries` int(10) unsigned NOT NULL DEFAULT 0,
  `not_before` datetime(3) DEFAULT NULL,
  `ended_at` datetime(3) DEFAULT NULL,
  PRIMARY KEY (`id`),
  KEY `state` (`state`,`id`),
  KEY `of_instrument` (`instrument_id`,`kind`,`id`),
  CONSTRAINT `jobs_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `jobs` (`id`, `instrument_id`, `kind`, `input`, `state`, `holder`, `share`) VALUES (1,1,'export','{}','waiting','',0);
CREATE TABLE `judged_loops` (
  `take_id` bigint(20) unsigned NOT NULL,
  `name` char(16) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `facts` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`facts`)),
  PRIMARY KEY (`take_id`,`name`),
  CONSTRAINT `judged_loops_ibfk_1` FOREIGN KEY (`take_id`) REFERENCES `takes` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `long_takes` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `name` varchar(255) NOT NULL,
  `recording` char(64) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `made_at` datetime(3) NOT NULL DEFAULT current_timestamp(3),
  `spool` char(36) CHARACTER SET ascii COLLATE ascii_general_ci DEFAULT NULL,
  `broken_off` tinyint(1) NOT NULL DEFAULT 0,
  PRIMARY KEY (`id`),
  UNIQUE KEY `one_of_a_spool` (`spool`),
  KEY `instrument_id` (`instrument_id`),
  KEY `recording` (`recording`),
  CONSTRAINT `long_takes_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE,
  CONSTRAINT `long_takes_ibfk_2` FOREIGN KEY (`recording`) REFERENCES `recordings` (`hash`)
) ENGINE=InnoDB AUTO_INCREMENT=2 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `long_takes` (`id`, `instrument_id`, `name`, `recording`, `made_at`, `spool`, `broken_off`) VALUES (1,1,'one long take','bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb','2026-11-28 01:56:57.557',NULL,0);
CREATE TABLE `measurements` (
  `take_id` bigint(20) unsigned NOT NULL,
  `version` int(10) unsigned NOT NULL,
  `facts` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`facts`)),
  PRIMARY KEY (`take_id`,`version`),
  CONSTRAINT `measurements_ibfk_1` FOREIGN KEY (`take_id`) REFERENCES `takes` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `patterns` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `name` varchar(255) NOT NULL,
  `plan` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`plan`)),
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `recordings` (
  `hash` char(64) NOT NULL,
  `rate_hz` int(10) unsigned NOT NULL,
  `channels` smallint(5) unsigned NOT NULL,
  `bits` smallint(5) unsigned NOT NULL,
  `frames` bigint(20) unsigned NOT NULL,
  `noted_at` datetime(3) NOT NULL DEFAULT current_timestamp(3),
  PRIMARY KEY (`hash`)
) ENGINE=InnoDB DEFAULT CHARSET=ascii COLLATE=ascii_general_ci;
INSERT INTO `recordings` (`hash`, `rate_hz`, `channels`, `bits`, `frames`, `noted_at`) VALUES ('aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa',48000,2,24,96000,'2026-11-28 01:56:57.556'),
('bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb',48000,2,24,4800000,'2026-11-28 01:56:57.556');
CREATE TABLE `runs` (
  `instrument_id` bigint(20) unsigned NOT NULL,
  `settings` text NOT NULL,
  `holder` varchar(96) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL DEFAULT '',
  `lease_until` datetime(3) DEFAULT NULL,
  `goes_on` varchar(16) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL DEFAULT 'anywhere',
  PRIMARY KEY (`instrument_id`),
  CONSTRAINT `runs_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `sound_checks` (
  `instrument_id` bigint(20) unsigned NOT NULL,
  `sound_check` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`sound_check`)),
  PRIMARY KEY (`instrument_id`),
  CONSTRAINT `sound_checks_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `suggestions` (
  `take_id` bigint(20) unsigned NOT NULL,
  `version` int(10) unsigned NOT NULL,
  `kind` varchar(16) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `rung_key` tinyint(3) unsigned NOT NULL,
  `suggestion` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`suggestion`)),
  PRIMARY KEY (`take_id`,`version`,`kind`,`rung_key`),
  CONSTRAINT `suggestions_ibfk_1` FOREIGN KEY (`take_id`) REFERENCES `takes` (`id`) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
CREATE TABLE `takes` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `pass` smallint(5) unsigned NOT NULL,
  `rung_key` tinyint(3) unsigned NOT NULL,
  `layer` smallint(5) unsigned NOT NULL,
  `round_robin` smallint(5) unsigned NOT NULL,
  `recording` char(64) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `first_frame` bigint(20) unsigned NOT NULL,
  `frames` bigint(20) unsigned NOT NULL,
  `made_at` datetime(3) NOT NULL DEFAULT current_timestamp(3),
  `thumbnail` blob DEFAULT NULL,
  `origin` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL CHECK (json_valid(`origin`)),
  `spool` char(36) CHARACTER SET ascii COLLATE ascii_general_ci DEFAULT NULL,
  PRIMARY KEY (`id`),
  UNIQUE KEY `one_of_a_spool` (`spool`),
  KEY `instrument_id` (`instrument_id`),
  KEY `recording` (`recording`),
  CONSTRAINT `takes_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE,
  CONSTRAINT `takes_ibfk_2` FOREIGN KEY (`recording`) REFERENCES `recordings` (`hash`)
) ENGINE=InnoDB AUTO_INCREMENT=3 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;
INSERT INTO `takes` (`id`, `instrument_id`, `pass`, `rung_key`, `layer`, `round_robin`, `recording`, `first_frame`, `frames`, `made_at`, `thumbnail`, `origin`, `spool`) VALUES (1,1,0,60,0,0,'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa',0,96000,'2026-11-28 01:56:57.556',NULL,'{}',NULL),
(2,1,0,60,1,0,'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa',0,48000,'2026-11-28 01:56:57.556',NULL,'{}',NULL);
CREATE TABLE `waiting_files` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `instrument_id` bigint(20) unsigned NOT NULL,
  `name` varchar(1024) NOT NULL,
  `recording` char(64) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL,
  `heard` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL CHECK (json_valid(`heard`)),
  PRIMARY KEY (`id`),
  KEY `instrument_id` (`instrument_id`),
  KEY `recording` (`recording`),
  CONSTRAINT `waiting_files_ibfk_1` FOREIGN KEY (`instrument_id`) REFERENCES `instruments` (`id`) ON DELETE CASCADE,
  CONSTRAINT `waiting_files_ibfk_2` FOREIGN KEY (`recording`) REFERENCES `recordings` (`hash`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci;

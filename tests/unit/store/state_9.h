/* A state database of schema 9, written by the programs of that time, as the
 * statements that make it again. */
static const char *const state_9[] = {
	"BEGIN TRANSACTION;",
	"CREATE TABLE addresses(network TEXT NOT NULL REFERENCES networks(n"
	"ame), slot INTEGER NOT NULL, container TEXT NOT NULL REFERENCES co"
	"ntainers(id) ON DELETE CASCADE, address4 TEXT NOT NULL, address6 T"
	"EXT NOT NULL, PRIMARY KEY(network, slot)) WITHOUT ROWID;",
	"CREATE TABLE containers(id TEXT PRIMARY KEY, name TEXT NOT NULL UN"
	"IQUE, image TEXT NOT NULL, image_name TEXT NOT NULL, command TEXT "
	"NOT NULL, network TEXT NOT NULL, state TEXT NOT NULL, outcome TEXT"
	" NOT NULL DEFAULT '', code INTEGER NOT NULL DEFAULT 0, reason TEXT"
	" NOT NULL DEFAULT '', keep INTEGER NOT NULL, pid INTEGER NOT NULL "
	"DEFAULT 0, boot TEXT NOT NULL DEFAULT '', created_us INTEGER NOT N"
	"ULL, started_us INTEGER NOT NULL DEFAULT 0, ended_us INTEGER NOT N"
	"ULL DEFAULT 0, restart TEXT NOT NULL DEFAULT '', tries INTEGER NOT"
	" NULL DEFAULT 0, restarts INTEGER NOT NULL DEFAULT 0, next_us INTE"
	"GER NOT NULL DEFAULT 0, wanted INTEGER NOT NULL DEFAULT 0, probe T"
	"EXT NOT NULL DEFAULT '', health TEXT NOT NULL DEFAULT '', cgroup T"
	"EXT NOT NULL DEFAULT '', aliases TEXT NOT NULL DEFAULT '', build T"
	"EXT NOT NULL DEFAULT '') WITHOUT ROWID;",
	"INSERT INTO \"containers\" VALUES('j9cnpbrsz5bf','astray','sha256:"
	"fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73',"
	"'selwick/base','sleep 100','none','stopped','signal',15,'stopped',"
	"1,0,'9a89bc87-a9f8-4175-a688-1948a2f2d059',1795800529467234,179580"
	"0529477964,1795800530508662,'',0,0,0,0,'','','/tidyhull-b7807b/j9c"
	"npbrsz5bf','','');",
	"INSERT INTO \"containers\" VALUES('m2yw46jgts3d','stopped','sha256"
	":fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73'"
	",'selwick/base','sleep 100','none','stopped','signal',15,'stopped'"
	",1,0,'9a89bc87-a9f8-4175-a688-1948a2f2d059',1795800528099484,17958"
	"00528108157,1795800528112442,'',0,0,0,0,'','','/tidyhull-b7807b/m2"
	"yw46jgts3d','','');",
	"INSERT INTO \"containers\" VALUES('msyz3vkvvpbq','forced','sha256:"
	"fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73',"
	"'selwick/base','sh -c trap \"\" TERM; while :; do sleep 1; done','"
	"none','stopped','signal',9,'stopped, and killed after the grace pe"
	"riod',1,0,'9a89bc87-a9f8-4175-a688-1948a2f2d059',1795800528124454,"
	"1795800528132638,1795800529439957,'',0,0,0,0,'','','/tidyhull-b780"
	"7b/msyz3vkvvpbq','','');",
	"INSERT INTO \"containers\" VALUES('nxyhg2hsmndp','lost','sha256:fd"
	"b36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73','s"
	"elwick/base','sleep 100','none','stopped','keeper-lost',0,'its kee"
	"per was killed, and the container with it',1,0,'9a89bc87-a9f8-4175"
	"-a688-1948a2f2d059',1795800530461143,1795800530469712,179580053047"
	"9371,'',0,0,0,1,'','','/tidyhull-b7807b/nxyhg2hsmndp','','');",
	"INSERT INTO \"containers\" VALUES('p3mm25zghmsy','renamed','sha256"
	":fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73'"
	",'selwick/base','sleep 100','none','created','',0,'',1,0,'',179580"
	"0528067474,0,0,'',0,0,0,0,'','','','','');",
	"INSERT INTO \"containers\" VALUES('qjgcjjj3vnph','tries','sha256:f"
	"db36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73','"
	"selwick/base','sh -c exit 4','none','stopped','exited',4,'stopped "
	"while it waited for its next try',1,0,'9a89bc87-a9f8-4175-a688-194"
	"8a2f2d059',1795800529935038,1795800529943276,1795800529949035,'alw"
	"ays,delay=1h',1,0,0,0,'','','/tidyhull-b7807b/qjgcjjj3vnph','','')"
	";",
	"INSERT INTO \"containers\" VALUES('t26cw78jxhnb','paused','sha256:"
	"fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73',"
	"'selwick/base','sleep 100','none','stopped','signal',15,'stopped',"
	"1,0,'9a89bc87-a9f8-4175-a688-1948a2f2d059',1795800529916662,179580"
	"0529925046,1795800530507574,'always',0,0,0,0,'','','/tidyhull-b780"
	"7b/t26cw78jxhnb','','');",
	"INSERT INTO \"containers\" VALUES('xvf9r3zhmfxq','killed','sha256:"
	"fdb36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73',"
	"'selwick/base','sleep 100','none','stopped','signal',9,'was sent s"
	"ignal 9',1,0,'9a89bc87-a9f8-4175-a688-1948a2f2d059',17958005294509"
	"22,1795800529459931,1795800529468887,'',0,0,0,0,'','','/tidyhull-b"
	"7807b/xvf9r3zhmfxq','','');",
	"INSERT INTO \"containers\" VALUES('zc647ffyr33v','ended','sha256:f"
	"db36d090d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73','"
	"selwick/base','sh -c exit 3','none','stopped','exited',3,'',1,0,'9"
	"a89bc87-a9f8-4175-a688-1948a2f2d059',1795800528074780,179580052808"
	"5848,1795800528087246,'',0,0,0,0,'','','/tidyhull-b7807b/zc647ffyr"
	"33v','','');",
	"CREATE TABLE events(number INTEGER PRIMARY KEY, time_us INTEGER NO"
	"T NULL, container TEXT NOT NULL, name TEXT NOT NULL, from_state TE"
	"XT NOT NULL, to_state TEXT NOT NULL, cause TEXT NOT NULL, actor TE"
	"XT NOT NULL, outcome TEXT NOT NULL DEFAULT '', code INTEGER NOT NU"
	"LL DEFAULT 0);",
	"INSERT INTO \"events\" VALUES(1,1795800528069517,'p3mm25zghmsy','n"
	"ever','','created','created','root: tidyhull create','',0);",
	"INSERT INTO \"events\" VALUES(2,1795800528075961,'zc647ffyr33v','e"
	"nded','','created','created','root: tidyhull run','',0);",
	"INSERT INTO \"events\" VALUES(3,1795800528085987,'zc647ffyr33v','e"
	"nded','created','running','started','root: tidyhull run','',0);",
	"INSERT INTO \"events\" VALUES(4,1795800528087447,'zc647ffyr33v','e"
	"nded','running','stopped','its process ended','keeper','exited',3)"
	";",
	"INSERT INTO \"events\" VALUES(5,1795800528100718,'m2yw46jgts3d','s"
	"topped','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(6,1795800528108296,'m2yw46jgts3d','s"
	"topped','created','running','started','root: tidyhull launch','',0"
	");",
	"INSERT INTO \"events\" VALUES(7,1795800528112743,'m2yw46jgts3d','s"
	"topped','running','stopped','stopped','root: tidyhull stop','signa"
	"l',15);",
	"INSERT INTO \"events\" VALUES(8,1795800528125658,'msyz3vkvvpbq','f"
	"orced','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(9,1795800528132806,'msyz3vkvvpbq','f"
	"orced','created','running','started','root: tidyhull launch','',0)"
	";",
	"INSERT INTO \"events\" VALUES(10,1795800529440212,'msyz3vkvvpbq','"
	"forced','running','stopped','stopped, and killed after the grace p"
	"eriod','root: tidyhull stop','signal',9);",
	"INSERT INTO \"events\" VALUES(11,1795800529452118,'xvf9r3zhmfxq','"
	"killed','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(12,1795800529460075,'xvf9r3zhmfxq','"
	"killed','created','running','started','root: tidyhull launch','',0"
	");",
	"INSERT INTO \"events\" VALUES(13,1795800529468461,'j9cnpbrsz5bf','"
	"astray','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(14,1795800529469134,'xvf9r3zhmfxq','"
	"killed','running','stopped','was sent signal 9','root: tidyhull ki"
	"ll','signal',9);",
	"INSERT INTO \"events\" VALUES(15,1795800529478106,'j9cnpbrsz5bf','"
	"astray','created','running','started','root: tidyhull launch','',0"
	");",
	"INSERT INTO \"events\" VALUES(16,1795800529891328,'n7hzgqfrqqg3','"
	"missing','','created','created','root: tidyhull run','',0);",
	"INSERT INTO \"events\" VALUES(17,1795800529899295,'n7hzgqfrqqg3','"
	"missing','created','stopped','could not be started','root: tidyhul"
	"l run','could-not-start',0);",
	"INSERT INTO \"events\" VALUES(18,1795800529900068,'n7hzgqfrqqg3','"
	"missing','stopped','removed','removed','root: tidyhull run','',0);",
	"INSERT INTO \"events\" VALUES(19,1795800529917859,'t26cw78jxhnb','"
	"paused','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(20,1795800529925195,'t26cw78jxhnb','"
	"paused','created','running','started','root: tidyhull launch','',0"
	");",
	"INSERT INTO \"events\" VALUES(21,1795800529929198,'t26cw78jxhnb','"
	"paused','running','paused','paused','root: tidyhull pause','',0);",
	"INSERT INTO \"events\" VALUES(22,1795800529931878,'t26cw78jxhnb','"
	"paused','paused','running','resumed','root: tidyhull resume','',0)"
	";",
	"INSERT INTO \"events\" VALUES(23,1795800529936237,'qjgcjjj3vnph','"
	"tries','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(24,1795800529943406,'qjgcjjj3vnph','"
	"tries','created','running','started','root: tidyhull launch','',0)"
	";",
	"INSERT INTO \"events\" VALUES(25,1795800529949227,'qjgcjjj3vnph','"
	"tries','running','waiting','its process ended; attempt 1 in 60 min"
	"','keeper','exited',4);",
	"INSERT INTO \"events\" VALUES(26,1795800530454488,'p3mm25zghmsy','"
	"renamed','created','created','renamed from never to renamed','root"
	": tidyhull rename','',0);",
	"INSERT INTO \"events\" VALUES(27,1795800530457516,'t26cw78jxhnb','"
	"paused','running','running','its restart policy is now always','ro"
	"ot: tidyhull adjust','',0);",
	"INSERT INTO \"events\" VALUES(28,1795800530462405,'nxyhg2hsmndp','"
	"lost','','created','created','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(29,1795800530469855,'nxyhg2hsmndp','"
	"lost','created','running','started','root: tidyhull launch','',0);",
	"INSERT INTO \"events\" VALUES(30,1795800530479508,'nxyhg2hsmndp','"
	"lost','running','stopped','found without its keeper','root: tidyhu"
	"ll list','keeper-lost',0);",
	"INSERT INTO \"events\" VALUES(31,1795800530498445,'qjgcjjj3vnph','"
	"tries','waiting','stopped','stopped while it waited for its next t"
	"ry','root: tidyhull stop','exited',4);",
	"INSERT INTO \"events\" VALUES(32,1795800530507801,'t26cw78jxhnb','"
	"paused','running','stopped','stopped','root: tidyhull stop','signa"
	"l',15);",
	"INSERT INTO \"events\" VALUES(33,1795800530508889,'j9cnpbrsz5bf','"
	"astray','running','stopped','stopped','root: tidyhull stop','signa"
	"l',15);",
	"CREATE TABLE image_layers(image TEXT NOT NULL REFERENCES images(di"
	"gest) ON DELETE CASCADE, position INTEGER NOT NULL, diff_id TEXT N"
	"OT NULL, blob TEXT NOT NULL, bytes INTEGER NOT NULL, tree_bytes IN"
	"TEGER NOT NULL DEFAULT 0, tree TEXT NOT NULL DEFAULT '', PRIMARY K"
	"EY(image, position)) WITHOUT ROWID;",
	"INSERT INTO \"image_layers\" VALUES('sha256:2153cd637001aad1bc9dd3"
	"3bde75155f1cd26a6746d64aef89ed8b87af79de6f',0,'sha256:ea6f4a889073"
	"7c4857184eefc1b04c48941987bfc476969f7efb1eef63829e45','sha256:e578"
	"598c7f5301ca73593aac4b36e77732b33e0c5c46e05e4be430fbba826150',1033"
	"259,2048000,'sha256:ea6f4a8890737c4857184eefc1b04c48941987bfc47696"
	"9f7efb1eef63829e45');",
	"INSERT INTO \"image_layers\" VALUES('sha256:2153cd637001aad1bc9dd3"
	"3bde75155f1cd26a6746d64aef89ed8b87af79de6f',1,'sha256:8b075f0855af"
	"12faa8a7e5b3fb00b597d79334a199c7dabd2de290a756760433','sha256:34a4"
	"c221a895d2054ad1d818a9e1c921238724738545ab41477796ff824adf05',294,"
	"32768,'sha256:8b075f0855af12faa8a7e5b3fb00b597d79334a199c7dabd2de2"
	"90a756760433');",
	"INSERT INTO \"image_layers\" VALUES('sha256:2153cd637001aad1bc9dd3"
	"3bde75155f1cd26a6746d64aef89ed8b87af79de6f',2,'sha256:d1f45b9eba85"
	"ac142bbdc6b53c4dab15f65812316e1b765013d22cd4437076a9','sha256:cec8"
	"aa5c74e025298285f327d91f4bd9370e9f475a87d237dca93395178b831b',3977"
	"51,942080,'sha256:d1f45b9eba85ac142bbdc6b53c4dab15f65812316e1b7650"
	"13d22cd4437076a9');",
	"INSERT INTO \"image_layers\" VALUES('sha256:72f8512dcca131cf0d389b"
	"7509fce05d80cce779b28d04886802d19071daf182',0,'sha256:ea6f4a889073"
	"7c4857184eefc1b04c48941987bfc476969f7efb1eef63829e45','sha256:e578"
	"598c7f5301ca73593aac4b36e77732b33e0c5c46e05e4be430fbba826150',1033"
	"259,2048000,'sha256:ea6f4a8890737c4857184eefc1b04c48941987bfc47696"
	"9f7efb1eef63829e45');",
	"INSERT INTO \"image_layers\" VALUES('sha256:72f8512dcca131cf0d389b"
	"7509fce05d80cce779b28d04886802d19071daf182',1,'sha256:8b075f0855af"
	"12faa8a7e5b3fb00b597d79334a199c7dabd2de290a756760433','sha256:34a4"
	"c221a895d2054ad1d818a9e1c921238724738545ab41477796ff824adf05',294,"
	"32768,'sha256:8b075f0855af12faa8a7e5b3fb00b597d79334a199c7dabd2de2"
	"90a756760433');",
	"INSERT INTO \"image_layers\" VALUES('sha256:72f8512dcca131cf0d389b"
	"7509fce05d80cce779b28d04886802d19071daf182',2,'sha256:6c36eb09b5bb"
	"3de8aed34eaae651ec4e8f489de6dac2d3ceb69646fc7357689a','sha256:5777"
	"f103128dc7ee37a24d05ecc6370c3480041952dcc5bead4f2cf09c60b57a',8146"
	"43,1908736,'sha256:6c36eb09b5bb3de8aed34eaae651ec4e8f489de6dac2d3c"
	"eb69646fc7357689a');",
	"INSERT INTO \"image_layers\" VALUES('sha256:78e2011fa65b45c5eb99b0"
	"54250ae021ef999d74230d4155ceb0868d90c8c842',0,'sha256:ea6f4a889073"
	"7c4857184eefc1b04c48941987bfc476969f7efb1eef63829e45','sha256:e578"
	"598c7f5301ca73593aac4b36e77732b33e0c5c46e05e4be430fbba826150',1033"
	"259,2048000,'sha256:ea6f4a8890737c4857184eefc1b04c48941987bfc47696"
	"9f7efb1eef63829e45');",
	"INSERT INTO \"image_layers\" VALUES('sha256:78e2011fa65b45c5eb99b0"
	"54250ae021ef999d74230d4155ceb0868d90c8c842',1,'sha256:8b075f0855af"
	"12faa8a7e5b3fb00b597d79334a199c7dabd2de290a756760433','sha256:34a4"
	"c221a895d2054ad1d818a9e1c921238724738545ab41477796ff824adf05',294,"
	"32768,'sha256:8b075f0855af12faa8a7e5b3fb00b597d79334a199c7dabd2de2"
	"90a756760433');",
	"INSERT INTO \"image_layers\" VALUES('sha256:eaa48c2825fa1f93eb6e9c"
	"4297c952f36937005a4ab6751cd70e9f264aea3e58',0,'sha256:ea6f4a889073"
	"7c4857184eefc1b04c48941987bfc476969f7efb1eef63829e45','sha256:e578"
	"598c7f5301ca73593aac4b36e77732b33e0c5c46e05e4be430fbba826150',1033"
	"259,2048000,'sha256:ea6f4a8890737c4857184eefc1b04c48941987bfc47696"
	"9f7efb1eef63829e45');",
	"INSERT INTO \"image_layers\" VALUES('sha256:eaa48c2825fa1f93eb6e9c"
	"4297c952f36937005a4ab6751cd70e9f264aea3e58',1,'sha256:8b075f0855af"
	"12faa8a7e5b3fb00b597d79334a199c7dabd2de290a756760433','sha256:34a4"
	"c221a895d2054ad1d818a9e1c921238724738545ab41477796ff824adf05',294,"
	"32768,'sha256:8b075f0855af12faa8a7e5b3fb00b597d79334a199c7dabd2de2"
	"90a756760433');",
	"INSERT INTO \"image_layers\" VALUES('sha256:eaa48c2825fa1f93eb6e9c"
	"4297c952f36937005a4ab6751cd70e9f264aea3e58',2,'sha256:cf046b3eaac4"
	"3bdd32fa8c692a3d2fd20f5e2dd697c616eaf13d56e41ba2c484','sha256:134e"
	"87cc5508bef6a443b9d2a3ff83bfe6be87865fa3b5e81cba662882723c2e',3983"
	"08,946176,'sha256:cf046b3eaac43bdd32fa8c692a3d2fd20f5e2dd697c616ea"
	"f13d56e41ba2c484');",
	"INSERT INTO \"image_layers\" VALUES('sha256:fdb36d090d70d782d8db9e"
	"a63791a718c825527dd1ea5676656402933eb4ae73',0,'sha256:ea6f4a889073"
	"7c4857184eefc1b04c48941987bfc476969f7efb1eef63829e45','sha256:e578"
	"598c7f5301ca73593aac4b36e77732b33e0c5c46e05e4be430fbba826150',1033"
	"259,2048000,'sha256:ea6f4a8890737c4857184eefc1b04c48941987bfc47696"
	"9f7efb1eef63829e45');",
	"INSERT INTO \"image_layers\" VALUES('sha256:fdb36d090d70d782d8db9e"
	"a63791a718c825527dd1ea5676656402933eb4ae73',1,'sha256:8b075f0855af"
	"12faa8a7e5b3fb00b597d79334a199c7dabd2de290a756760433','sha256:34a4"
	"c221a895d2054ad1d818a9e1c921238724738545ab41477796ff824adf05',294,"
	"32768,'sha256:8b075f0855af12faa8a7e5b3fb00b597d79334a199c7dabd2de2"
	"90a756760433');",
	"CREATE TABLE images(digest TEXT PRIMARY KEY, config TEXT NOT NULL,"
	" platform TEXT NOT NULL, created TEXT NOT NULL, manifest_size INTE"
	"GER NOT NULL, blob_bytes INTEGER NOT NULL, pulled_us INTEGER NOT N"
	"ULL, media TEXT NOT NULL DEFAULT 'application/vnd.oci.image.manife"
	"st.v1+json', folders TEXT NOT NULL DEFAULT '', root_tree TEXT NOT "
	"NULL DEFAULT '') WITHOUT ROWID;",
	"INSERT INTO \"images\" VALUES('sha256:2153cd637001aad1bc9dd33bde75"
	"155f1cd26a6746d64aef89ed8b87af79de6f','sha256:9a57e577e87cd472d1bb"
	"d7fb895e9e6d8f695e0804f2c69ceb049ba0a8da09af','linux/amd64','2026-"
	"03-01T00:00:00Z',716,1432712,1795800528010284,'application/vnd.oci"
	".image.manifest.v1+json','sha256:c26bf5ecb9fa99a8dc179ef92d5de7807"
	"a9da87b652e4dc881b6ec0484d41d11.folders','');",
	"INSERT INTO \"images\" VALUES('sha256:72f8512dcca131cf0d389b7509fc"
	"e05d80cce779b28d04886802d19071daf182','sha256:4471f1d72875e162df77"
	"d1fe07d58dc0ed0f6c8c0bbcd13cae581648b21d484b','linux/amd64','2026-"
	"03-01T00:00:00Z',716,1849575,1795800528050019,'application/vnd.oci"
	".image.manifest.v1+json','sha256:706ba439bfb714234eef0d9501b80a406"
	"b63623cfc12ed3e406c2ab6841c06b7.folders','');",
	"INSERT INTO \"images\" VALUES('sha256:78e2011fa65b45c5eb99b054250a"
	"e021ef999d74230d4155ceb0868d90c8c842','sha256:2a8276691e6fd458cc30"
	"e43d48857dfbd1705775e487bfbc3b13230cc11c152f','linux/amd64','2026-"
	"03-01T00:00:00Z',559,1034555,1795800527992779,'application/vnd.oci"
	".image.manifest.v1+json','sha256:bdfcbba5faf9c7f627adbeaaa8b385711"
	"252e529a640291f517d695f541303ab.folders','');",
	"INSERT INTO \"images\" VALUES('sha256:eaa48c2825fa1f93eb6e9c4297c9"
	"52f36937005a4ab6751cd70e9f264aea3e58','sha256:ceed89f2a150d3aafa8a"
	"ab77c42f26b3fcc6a3e9e809f44ad71714ea6a788c3b','linux/amd64','2026-"
	"03-01T00:00:00Z',716,1433193,1795800528027225,'application/vnd.oci"
	".image.manifest.v1+json','sha256:0fa5d4ee215c6f87a1827fba61068d20c"
	"0bb4962c562f676bc910371512cd508.folders','');",
	"INSERT INTO \"images\" VALUES('sha256:fdb36d090d70d782d8db9ea63791"
	"a718c825527dd1ea5676656402933eb4ae73','sha256:c3168c1c703505e22951"
	"dd00d1bf304880fd3fe2dce0c35c9e2971b82181ab7d','linux/amd64','2026-"
	"03-01T00:00:00Z',559,1034584,1795800527987458,'application/vnd.oci"
	".image.manifest.v1+json','sha256:bdfcbba5faf9c7f627adbeaaa8b385711"
	"252e529a640291f517d695f541303ab.folders','');",
	"CREATE TABLE index_digests(digest TEXT NOT NULL, image TEXT NOT NU"
	"LL REFERENCES images(digest) ON DELETE CASCADE, PRIMARY KEY(digest"
	", image)) WITHOUT ROWID;",
	"CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;",
	"INSERT INTO \"meta\" VALUES('index-stale','0');",
	"INSERT INTO \"meta\" VALUES('reclaim','0');",
	"INSERT INTO \"meta\" VALUES('tag','b7807b');",
	"CREATE TABLE network_uses(container TEXT NOT NULL REFERENCES conta"
	"iners(id) ON DELETE CASCADE, position INTEGER NOT NULL, network TE"
	"XT NOT NULL REFERENCES networks(name), address4 TEXT NOT NULL, add"
	"ress6 TEXT NOT NULL, PRIMARY KEY(container, position)) WITHOUT ROW"
	"ID;",
	"CREATE TABLE networks(name TEXT PRIMARY KEY, number INTEGER UNIQUE"
	", subnet4 TEXT NOT NULL, subnet6 TEXT NOT NULL, created_us INTEGER"
	" NOT NULL, given4 INTEGER NOT NULL DEFAULT 0, given6 INTEGER NOT N"
	"ULL DEFAULT 0, internal INTEGER NOT NULL DEFAULT 0, by_hand INTEGE"
	"R NOT NULL DEFAULT 0, loopback INTEGER NOT NULL DEFAULT 0) WITHOUT"
	" ROWID;",
	"CREATE TABLE ports(container TEXT NOT NULL REFERENCES containers(i"
	"d) ON DELETE CASCADE, protocol TEXT NOT NULL, address TEXT NOT NUL"
	"L, host_port INTEGER NOT NULL, port INTEGER NOT NULL, PRIMARY KEY("
	"protocol, address, host_port)) WITHOUT ROWID;",
	"CREATE TABLE sessions(id TEXT PRIMARY KEY, container TEXT NOT NULL"
	" REFERENCES containers(id) ON DELETE CASCADE, command TEXT NOT NUL"
	"L, user TEXT NOT NULL, pid INTEGER NOT NULL, started_us INTEGER NO"
	"T NULL, ended_us INTEGER NOT NULL DEFAULT 0, code INTEGER NOT NULL"
	" DEFAULT 0, actor TEXT NOT NULL DEFAULT '', background INTEGER NOT"
	" NULL DEFAULT 0) WITHOUT ROWID;",
	"CREATE TABLE steps(key TEXT PRIMARY KEY, image TEXT NOT NULL REFER"
	"ENCES images(digest) ON DELETE CASCADE, boot TEXT NOT NULL, used_u"
	"s INTEGER NOT NULL, parent TEXT NOT NULL, text TEXT NOT NULL, cont"
	"ent TEXT NOT NULL) WITHOUT ROWID;",
	"CREATE TABLE tags(name TEXT PRIMARY KEY, digest TEXT NOT NULL REFE"
	"RENCES images(digest)) WITHOUT ROWID;",
	"INSERT INTO \"tags\" VALUES('selwick/gauge:1','sha256:2153cd637001"
	"aad1bc9dd33bde75155f1cd26a6746d64aef89ed8b87af79de6f');",
	"INSERT INTO \"tags\" VALUES('selwick/gauge:latest','sha256:2153cd6"
	"37001aad1bc9dd33bde75155f1cd26a6746d64aef89ed8b87af79de6f');",
	"INSERT INTO \"tags\" VALUES('selwick/ledger:1','sha256:72f8512dcca"
	"131cf0d389b7509fce05d80cce779b28d04886802d19071daf182');",
	"INSERT INTO \"tags\" VALUES('selwick/ledger:latest','sha256:72f851"
	"2dcca131cf0d389b7509fce05d80cce779b28d04886802d19071daf182');",
	"INSERT INTO \"tags\" VALUES('selwick/charts:1','sha256:78e2011fa65"
	"b45c5eb99b054250ae021ef999d74230d4155ceb0868d90c8c842');",
	"INSERT INTO \"tags\" VALUES('selwick/charts:latest','sha256:78e201"
	"1fa65b45c5eb99b054250ae021ef999d74230d4155ceb0868d90c8c842');",
	"INSERT INTO \"tags\" VALUES('selwick/almanac:1','sha256:eaa48c2825"
	"fa1f93eb6e9c4297c952f36937005a4ab6751cd70e9f264aea3e58');",
	"INSERT INTO \"tags\" VALUES('selwick/almanac:latest','sha256:eaa48"
	"c2825fa1f93eb6e9c4297c952f36937005a4ab6751cd70e9f264aea3e58');",
	"INSERT INTO \"tags\" VALUES('selwick/base:1','sha256:fdb36d090d70d"
	"782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73');",
	"INSERT INTO \"tags\" VALUES('selwick/base:latest','sha256:fdb36d09"
	"0d70d782d8db9ea63791a718c825527dd1ea5676656402933eb4ae73');",
	"CREATE TABLE volume_uses(container TEXT NOT NULL REFERENCES contai"
	"ners(id) ON DELETE CASCADE, target TEXT NOT NULL, volume TEXT NOT "
	"NULL REFERENCES volumes(name), PRIMARY KEY(container, target)) WIT"
	"HOUT ROWID;",
	"CREATE TABLE volumes(name TEXT PRIMARY KEY, own TEXT NOT NULL DEFA"
	"ULT '', created_us INTEGER NOT NULL, used_us INTEGER NOT NULL DEFA"
	"ULT 0) WITHOUT ROWID;",
	"CREATE INDEX tags_digest ON tags(digest);",
	"CREATE INDEX layers_diff ON image_layers(diff_id);",
	"CREATE INDEX layers_blob ON image_layers(blob);",
	"CREATE INDEX containers_image ON containers(image);",
	"CREATE INDEX events_container ON events(container, number);",
	"CREATE INDEX ports_container ON ports(container);",
	"CREATE INDEX addresses_container ON addresses(container);",
	"CREATE INDEX sessions_container ON sessions(container);",
	"CREATE INDEX volume_uses_volume ON volume_uses(volume);",
	"CREATE TRIGGER volume_given_up AFTER DELETE ON volume_uses BEGIN U"
	"PDATE volumes SET used_us= CAST((julianday('now') - 2440587.5) * 8"
	"6400000000 AS INTEGER) WHERE name=OLD.volume; END;",
	"CREATE INDEX network_uses_network ON network_uses(network);",
	"CREATE INDEX layers_tree ON image_layers(tree);",
	"CREATE INDEX steps_text ON steps(text);",
	"CREATE INDEX steps_image ON steps(image);",
	"CREATE INDEX steps_boot ON steps(boot) WHERE boot<>'';",
	"CREATE INDEX containers_build ON containers(build) WHERE build<>''"
	";",
	"COMMIT;",
	"PRAGMA user_version=9",
	NULL,
};

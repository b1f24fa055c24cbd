BEGIN TRANSACTION;
CREATE TABLE cover (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  loose INTEGER NOT NULL, ordinal INTEGER NOT NULL,
  source INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),
  piece INTEGER NOT NULL, moment INTEGER NOT NULL, lane INTEGER NOT NULL CHECK (lane >= 1), natural INTEGER NOT NULL DEFAULT 0, span INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
INSERT INTO "cover" VALUES(1,9,0,0,3,214,13,2,49,2,0,86);
INSERT INTO "cover" VALUES(1,10,0,1,2,285,31,27,80,3,1,19);
INSERT INTO "cover" VALUES(1,18,0,2,4,228,42,27,81,4,1,21);
INSERT INTO "cover" VALUES(1,29,0,5,7,226,30,26,0,1,0,0);
INSERT INTO "cover" VALUES(1,30,0,3,2,9,42,7,290,2,1,0);
INSERT INTO "cover" VALUES(1,60,0,4,4,243,5,7,292,3,0,0);
CREATE TABLE desk_step (recording INTEGER NOT NULL, n INTEGER NOT NULL, value TEXT NOT NULL, PRIMARY KEY (recording, n)) WITHOUT ROWID;
CREATE TABLE issued (kind TEXT PRIMARY KEY, last INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO "issued" VALUES('recording',7);
INSERT INTO "issued" VALUES('story',1);
CREATE TABLE job (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  recording INTEGER REFERENCES recording(id) ON DELETE CASCADE,
  kind TEXT NOT NULL,
  params TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'working', 'done', 'failed', 'cancelled')),
  progress REAL NOT NULL DEFAULT 0,
  started REAL, finished REAL,                  
  message TEXT NOT NULL DEFAULT '',
  result TEXT
, attempt INTEGER NOT NULL DEFAULT 0);
CREATE TABLE journal (
  id INTEGER PRIMARY KEY,
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  parent INTEGER REFERENCES journal(id),
  at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  command TEXT NOT NULL, params TEXT NOT NULL, did TEXT NOT NULL, notes TEXT NOT NULL, patch TEXT NOT NULL
);
INSERT INTO "journal" VALUES(1,1,NULL,'2026-11-25T17:32:35.643Z','add_at_end','{"source": 2, "start": 77, "length": 55}','B, 55 frames, at the end','[]','{"pieces":[0,[],[[1,2,77,55,null,"both",100,0]]],"next_id":[1,2]}');
INSERT INTO "journal" VALUES(2,1,1,'2026-11-25T17:32:35.646Z','add_at_end','{"source": 1, "start": 37, "length": 64}','A, 64 frames, at the end','[]','{"pieces":[1,[],[[2,1,37,64,null,"both",100,0]]],"next_id":[2,3]}');
INSERT INTO "journal" VALUES(3,1,2,'2026-11-25T17:32:35.649Z','add_at_end','{"source": 1, "start": 187, "length": 67}','A, 67 frames, at the end','["A jump cut is exposed now (at 0:04+19)."]','{"pieces":[2,[],[[3,1,187,67,null,"both",100,0]]],"next_id":[3,4]}');
INSERT INTO "journal" VALUES(4,1,3,'2026-11-25T17:32:35.655Z','add_at_end','{"source": 1, "start": 259, "length": 43}','A, 43 frames, at the end','["A jump cut is exposed now (at 0:07+11)."]','{"pieces":[3,[],[[4,1,259,43,null,"both",100,0]]],"next_id":[4,5]}');
INSERT INTO "journal" VALUES(5,1,4,'2026-11-25T17:32:35.657Z','add_at_end','{"source": 1, "start": 44, "length": 57}','A, 57 frames, at the end','["A jump cut is exposed now (at 0:09+04)."]','{"pieces":[4,[],[[5,1,44,57,null,"both",100,0]]],"next_id":[5,6]}');
INSERT INTO "journal" VALUES(6,1,5,'2026-11-25T17:32:35.659Z','add_at_end','{"source": 4, "start": 35, "length": 45}','fifty, 45 frames, at the end','[]','{"pieces":[5,[],[[6,4,35,45,null,"both",100,0]]],"next_id":[6,7]}');
INSERT INTO "journal" VALUES(7,1,6,'2026-11-25T17:32:35.661Z','add_at_end','{"source": 1, "start": 282, "length": 57}','A, 57 frames, at the end','[]','{"pieces":[6,[],[[7,1,282,57,null,"both",100,0]]],"next_id":[7,8]}');
INSERT INTO "journal" VALUES(8,1,7,'2026-11-25T17:32:35.664Z','add_at_end','{"source": 1, "start": 289, "length": 37}','A, 37 frames, at the end','["A jump cut is exposed now (at 0:15+13)."]','{"pieces":[7,[],[[8,1,289,37,null,"both",100,0]]],"next_id":[8,9]}');
INSERT INTO "journal" VALUES(9,1,8,'2026-11-25T17:32:35.671Z','tail','{"at": 298}','fifty: out point 33 frames earlier','[]','{"pieces":[5,[[6,4,35,45,null,"both",100,0]],[[6,4,35,12,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(10,1,9,'2026-11-25T17:32:35.677Z','overwrite','{"at": 68, "source": 3, "start": 214, "length": 13, "take": "picture"}','boat laid over 0:02+18, 13 frames','[]','{"covers":[0,[],[[9,3,214,13,2,50,1,false,0]]],"next_id":[9,10]}');
INSERT INTO "journal" VALUES(11,1,10,'2026-11-25T17:32:35.680Z','lay_cover','{"source": 2, "at": 96, "until": 129, "end": 316, "lane": 3, "natural": false, "fit": false}','B laid over 0:03+21, 33 frames','[]','{"covers":[1,[],[[10,2,283,33,2,78,3,false,0]]],"next_id":[10,11]}');
INSERT INTO "journal" VALUES(12,1,11,'2026-11-25T17:32:35.683Z','move_cover','{"cover": 9, "at": 357}','boat now begins at 0:14+07','[]','{"covers":[0,[[9,3,214,13,2,50,1,false,0],[10,2,283,33,2,78,3,false,0]],[[10,2,283,33,2,78,3,false,0],[9,3,214,13,8,291,1,false,0]]]}');
INSERT INTO "journal" VALUES(13,1,12,'2026-11-25T17:32:35.691Z','insert_card','{"at": 197, "length": 81, "colour": "#8a2f2f", "text": ""}','A card, 81 frames','[]','{"pieces":[3,[[4,1,259,43,null,"both",100,0]],[[4,1,259,11,null,"both",100,0],[12,null,0,81,["#8a2f2f",""],"both",100,0],[11,1,270,32,null,"both",100,0]]],"next_id":[11,13]}');
INSERT INTO "journal" VALUES(14,1,13,'2026-11-25T17:32:35.694Z','set_natural','{"cover": 10, "on": true}','B: its own sound is heard','[]','{"covers":[0,[[10,2,283,33,2,78,3,false,0]],[[10,2,283,33,2,78,3,true,0]]]}');
INSERT INTO "journal" VALUES(15,1,14,'2026-11-25T17:32:35.701Z','trim_cover','{"cover": 10, "edge": "in", "delta": 2}','B: in point 2 frames later','[]','{"covers":[0,[[10,2,283,33,2,78,3,true,0]],[[10,2,285,31,2,80,3,true,0]]]}');
INSERT INTO "journal" VALUES(16,1,15,'2026-11-25T17:32:35.708Z','take_only','{"a": 281, "b": 298, "what": "picture"}','The picture of 17 frames taken out at 0:11+06','[]','{"pieces":[5,[[11,1,270,32,null,"both",100,0]],[[11,1,270,3,null,"both",100,0],[13,1,273,17,null,"sound",100,0],[14,1,290,12,null,"both",100,0]]],"next_id":[13,15]}');
INSERT INTO "journal" VALUES(17,1,16,'2026-11-25T17:32:35.719Z','open_again','{"piece": 11}','Joined through','[]','{"pieces":[5,[[11,1,270,3,null,"both",100,0],[13,1,273,17,null,"sound",100,0]],[[11,1,270,20,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(18,1,17,'2026-11-25T17:32:35.726Z','trim','{"piece": 2, "edge": "out", "delta": 9}','A: out point 9 frames later','["A jump cut is exposed now (at 0:05+03)."]','{"pieces":[1,[[2,1,37,64,null,"both",100,0]],[[2,1,37,73,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(19,1,18,'2026-11-25T17:32:35.729Z','lay_sound','{"source": 6, "at": 383, "until": 397, "start": 82, "end": 108, "clock_bound": true, "level": -97}','voice laid under 0:15+08, 14 frames','[]','{"sounds":[0,[],[[15,6,82,14,0,383,1,"effect",-97,0,0,0]]],"next_id":[15,16]}');
INSERT INTO "journal" VALUES(20,1,19,'2026-11-25T17:32:35.735Z','take_only','{"a": 114, "b": 148, "what": "sound"}','The sound of 34 frames taken out at 0:04+14','[]','{"pieces":[1,[[2,1,37,73,null,"both",100,0],[3,1,187,67,null,"both",100,0]],[[2,1,37,59,null,"both",100,0],[16,1,96,14,null,"picture",100,0],[3,1,187,20,null,"picture",100,0],[17,1,207,47,null,"both",100,0]]],"next_id":[16,18]}');
INSERT INTO "journal" VALUES(21,1,20,'2026-11-25T17:32:35.744Z','set_sound','{"sound": 15, "level": -37, "rise": 0}','voice: -3.7 dB, fades of 0 and 0 frames','[]','{"sounds":[0,[[15,6,82,14,0,383,1,"effect",-97,0,0,0]],[[15,6,82,14,0,383,1,"effect",-37,0,0,0]]]}');
INSERT INTO "journal" VALUES(22,1,21,'2026-11-25T17:32:35.756Z','fill_space','{"at": 99, "until": 141, "source": 4, "start": 228}','fifty laid over 0:03+24, 42 frames','[]','{"covers":[1,[],[[18,4,228,42,2,81,4,false,0]]],"next_id":[18,19]}');
INSERT INTO "journal" VALUES(23,1,22,'2026-11-25T17:32:35.785Z','trim_sound','{"sound": 15, "edge": "in", "delta": -1}','voice: in point 1 frame earlier','[]','{"sounds":[0,[[15,6,82,14,0,383,1,"effect",-37,0,0,0]],[[15,6,81,15,0,382,1,"effect",-37,0,0,0]]]}');
INSERT INTO "journal" VALUES(24,1,23,'2026-11-25T17:32:35.793Z','split','{"at": 100}','Split at 0:04+00','[]','{"pieces":[1,[[2,1,37,59,null,"both",100,0]],[[2,1,37,45,null,"both",100,0],[19,1,82,14,null,"both",100,0]]],"next_id":[19,20]}');
INSERT INTO "journal" VALUES(25,1,24,'2026-11-25T17:32:35.797Z','lay_sound','{"source": 2, "at": 400, "start": 176, "kind": "natural"}','B laid under 0:16+00, 1324 frames','["Its last 1242 frames run past the end of the talk and are not heard."]','{"sounds":[1,[],[[20,2,176,1324,7,294,1,"natural",-60,0,0,0]]],"next_id":[20,21]}');
INSERT INTO "journal" VALUES(26,1,25,'2026-11-25T17:32:35.801Z','match_length','{"piece": 12}','The card: out point 70 frames earlier','["voice moved to lane 2, so that both sounds keep their words."]','{"pieces":[7,[[12,null,0,81,["#8a2f2f",""],"both",100,0]],[[12,null,0,11,["#8a2f2f",""],"both",100,0]]],"sounds":[0,[[15,6,81,15,0,382,1,"effect",-37,0,0,0],[20,2,176,1324,7,294,1,"natural",-60,0,0,0]],[[20,2,176,1324,7,294,1,"natural",-60,0,0,0],[15,6,81,15,0,382,2,"effect",-37,0,0,0]]]}');
INSERT INTO "journal" VALUES(27,1,26,'2026-11-25T17:32:35.814Z','roll','{"piece": 4, "delta": 1}','Seam 1 frame later','["A jump cut is exposed now (at 0:07+21)."]','{"pieces":[5,[[17,1,207,47,null,"both",100,0],[4,1,259,11,null,"both",100,0]],[[17,1,207,48,null,"both",100,0],[4,1,260,10,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(28,1,27,'2026-11-25T17:32:35.829Z','move','{"piece": 1, "before": 19}','B moved','["A jump cut is exposed now (at 0:05+03)."]','{"pieces":[0,[[1,2,77,55,null,"both",100,0],[2,1,37,45,null,"both",100,0]],[[2,1,37,45,null,"both",100,0],[1,2,77,55,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(29,1,28,'2026-11-25T17:32:35.834Z','insert_card','{"at": 400, "length": 13, "colour": "#000000", "text": ""}','A card, 13 frames','[]','{"pieces":[13,[[8,1,289,37,null,"both",100,0]],[[8,1,289,25,null,"both",100,0],[22,null,0,13,["#000000",""],"both",100,0],[21,1,314,12,null,"both",100,0]]],"next_id":[21,23]}');
INSERT INTO "journal" VALUES(30,1,29,'2026-11-25T17:32:35.837Z','crossfade','{"piece": 3, "frames": 2}','Crossfade of 2 frames at 0:05+03','[]','{"joins":[0,[],[[16,3,0,"cut",0,2]]]}');
INSERT INTO "journal" VALUES(31,1,30,'2026-11-25T17:32:35.842Z','retime_cover','{"cover": 10, "span": 195}','B at 629 %','["It runs at another speed than it was shot at: its own sound is not heard there."]','{"covers":[0,[[10,2,285,31,2,80,3,true,0]],[[10,2,285,31,2,80,3,true,195]]]}');
INSERT INTO "journal" VALUES(32,1,31,'2026-11-25T17:32:35.845Z','insert_card','{"at": 278, "length": 49, "text": "The Last Haul"}','A card “The Last Haul”, 49 frames','["Effect on the story''s clock stays: from here on it lies 49 frames earlier against the words."]','{"pieces":[10,[[5,1,44,57,null,"both",100,0]],[[5,1,44,29,null,"both",100,0],[24,null,0,49,["#000000","The Last Haul"],"both",100,0],[23,1,73,28,null,"both",100,0]]],"next_id":[23,25]}');
INSERT INTO "journal" VALUES(33,1,32,'2026-11-25T17:32:35.849Z','retime_cover','{"cover": 10, "span": 136}','B at 439 %','["It runs at another speed than it was shot at: its own sound is not heard there."]','{"covers":[0,[[10,2,285,31,2,80,3,true,195]],[[10,2,285,31,2,80,3,true,136]]]}');
INSERT INTO "journal" VALUES(34,1,33,'2026-11-25T17:32:35.853Z','insert_space','{"at": 397, "length": 17}','A space of 17 frames','[]','{"pieces":[14,[[7,1,282,57,null,"both",100,0]],[[7,1,282,30,null,"both",100,0],[26,null,0,17,null,"both",100,0],[25,1,312,27,null,"both",100,0]]],"next_id":[25,27]}');
INSERT INTO "journal" VALUES(35,1,34,'2026-11-25T17:32:35.869Z','set_sound','{"sound": 20, "level": -59, "fall": 15}','B: -5.9 dB, fades of 0 and 15 frames','["Its last 1212 frames run past the end of the talk and are not heard."]','{"sounds":[0,[[20,2,176,1324,7,294,1,"natural",-60,0,0,0]],[[20,2,176,1324,7,294,1,"natural",-59,0,15,0]]]}');
INSERT INTO "journal" VALUES(36,1,35,'2026-11-25T17:32:35.872Z','split','{"at": 29}','Split at 0:01+04','[]','{"pieces":[0,[[2,1,37,45,null,"both",100,0]],[[2,1,37,29,null,"both",100,0],[27,1,66,16,null,"both",100,0]]],"covers":[0,[[10,2,285,31,2,80,3,true,136],[18,4,228,42,2,81,4,false,0]],[[10,2,285,31,27,80,3,true,136],[18,4,228,42,27,81,4,false,0]]],"next_id":[27,28]}');
INSERT INTO "journal" VALUES(37,1,36,'2026-11-25T17:32:35.883Z','split_edit','{"piece": 17, "frames": -8}','J-cut of 8 frames at 0:05+23','[]','{"joins":[1,[],[[3,17,-8,"cut",0,0]]]}');
INSERT INTO "journal" VALUES(38,1,37,'2026-11-25T17:32:35.901Z','match_length','{"piece": 12}','The card: out point 1 frame earlier','[]','{"pieces":[8,[[12,null,0,11,["#8a2f2f",""],"both",100,0]],[[12,null,0,10,["#8a2f2f",""],"both",100,0]]]}');
INSERT INTO "journal" VALUES(39,1,38,'2026-11-25T17:32:35.909Z','insert_card','{"at": 413, "length": 57, "colour": "#000000"}','A card, 57 frames','[]','{"pieces":[17,[],[[28,null,0,57,["#000000",""],"both",100,0]]],"next_id":[28,29]}');
INSERT INTO "journal" VALUES(40,1,39,'2026-11-25T17:32:35.913Z','lay_cover','{"source": 7, "until": 426, "start": 226, "end": 256, "lane": null}','ntsc laid over 0:15+21, 30 frames','[]','{"covers":[2,[],[[29,7,226,30,26,0,1,false,0]]],"next_id":[29,30]}');
INSERT INTO "journal" VALUES(41,1,40,'2026-11-25T17:32:35.918Z','swap','{"first": 12, "second": 16}','Two pieces swapped','["The crossfade was dropped: its two pieces parted.", "2 jump cuts are exposed now (at 0:08+02, 0:08+16)."]','{"pieces":[4,[[16,1,96,14,null,"picture",100,0],[3,1,187,20,null,"picture",100,0],[17,1,207,48,null,"both",100,0],[4,1,260,10,null,"both",100,0],[12,null,0,10,["#8a2f2f",""],"both",100,0]],[[12,null,0,10,["#8a2f2f",""],"both",100,0],[3,1,187,20,null,"picture",100,0],[17,1,207,48,null,"both",100,0],[4,1,260,10,null,"both",100,0],[16,1,96,14,null,"picture",100,0]]],"joins":[0,[[16,3,0,"cut",0,2]],[]]}');
INSERT INTO "journal" VALUES(42,1,41,'2026-11-25T17:32:35.933Z','retime_cover','{"cover": 9, "span": 86}','boat at 662 %','[]','{"covers":[3,[[9,3,214,13,8,291,1,false,0]],[[9,3,214,13,8,291,1,false,86]]]}');
INSERT INTO "journal" VALUES(43,1,42,'2026-11-25T17:32:35.941Z','lay_cover','{"source": 2, "at": 374, "until": 407, "start": 9, "end": 75, "natural": true}','B laid over 0:14+24, 33 frames','[]','{"covers":[2,[],[[30,2,9,33,7,290,2,true,0]]],"next_id":[30,31]}');
INSERT INTO "journal" VALUES(44,1,43,'2026-11-25T17:32:35.949Z','set_length','{"item": 15, "length": 9}','voice: out point 6 frames earlier','[]','{"sounds":[1,[[15,6,81,15,0,382,2,"effect",-37,0,0,0]],[[15,6,81,9,0,382,2,"effect",-37,0,0,0]]]}');
INSERT INTO "journal" VALUES(45,1,44,'2026-11-25T17:32:35.952Z','slip','{"piece": 16, "delta": -2}','A slipped 2 frames earlier','["2 jump cuts are exposed now (at 0:08+02, 0:08+16)."]','{"pieces":[8,[[16,1,96,14,null,"picture",100,0]],[[16,1,94,14,null,"picture",100,0]]]}');
INSERT INTO "journal" VALUES(46,1,45,'2026-11-25T17:32:35.975Z','set_sound','{"sound": 20, "rise": 26}','B: -5.9 dB, fades of 26 and 15 frames','["Its last 1155 frames run past the end of the talk and are not heard."]','{"sounds":[0,[[20,2,176,1324,7,294,1,"natural",-59,0,15,0]],[[20,2,176,1324,7,294,1,"natural",-59,26,15,0]]]}');
INSERT INTO "journal" VALUES(47,1,46,'2026-11-25T17:32:35.978Z','insert_card','{"at": 402, "length": 61, "colour": "#000000"}','A card, 61 frames','[]','{"pieces":[16,[[26,null,0,17,null,"both",100,0]],[[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0]]],"next_id":[31,33]}');
INSERT INTO "journal" VALUES(48,1,47,'2026-11-25T17:32:36.000Z','spread','{"every": 5}','12 spaces of 5 frames put in','["The J-cut was dropped: its two pieces parted."]','{"pieces":[1,[[27,1,66,16,null,"both",100,0],[1,2,77,55,null,"both",100,0],[19,1,82,14,null,"both",100,0],[12,null,0,10,["#8a2f2f",""],"both",100,0],[3,1,187,20,null,"picture",100,0],[17,1,207,48,null,"both",100,0],[4,1,260,10,null,"both",100,0],[16,1,94,14,null,"picture",100,0],[11,1,270,20,null,"both",100,0],[14,1,290,12,null,"both",100,0],[5,1,44,29,null,"both",100,0],[24,null,0,49,["#000000","The Last Haul"],"both",100,0],[23,1,73,28,null,"both",100,0],[6,4,35,12,null,"both",100,0],[7,1,282,30,null,"both",100,0],[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,57,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0]],[[33,null,0,5,null,"both",100,0],[27,1,66,16,null,"both",100,0],[34,null,0,5,null,"both",100,0],[1,2,77,55,null,"both",100,0],[35,null,0,5,null,"both",100,0],[19,1,82,14,null,"both",100,0],[12,null,0,10,["#8a2f2f",""],"both",100,0],[3,1,187,20,null,"picture",100,0],[36,null,0,5,null,"both",100,0],[17,1,207,48,null,"both",100,0],[37,null,0,5,null,"both",100,0],[4,1,260,10,null,"both",100,0],[38,null,0,5,null,"both",100,0],[16,1,94,14,null,"picture",100,0],[39,null,0,5,null,"both",100,0],[11,1,270,20,null,"both",100,0],[40,null,0,5,null,"both",100,0],[14,1,290,12,null,"both",100,0],[41,null,0,5,null,"both",100,0],[5,1,44,29,null,"both",100,0],[24,null,0,49,["#000000","The Last Haul"],"both",100,0],[23,1,73,28,null,"both",100,0],[42,null,0,5,null,"both",100,0],[6,4,35,12,null,"both",100,0],[43,null,0,5,null,"both",100,0],[7,1,282,30,null,"both",100,0],[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,57,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0]]],"joins":[0,[[3,17,-8,"cut",0,0]],[]],"sounds":[0,[[20,2,176,1324,7,294,1,"natural",-59,26,15,0],[15,6,81,9,0,382,2,"effect",-37,0,0,0]],[[15,6,81,9,0,382,2,"effect",-37,0,0,0],[20,2,176,1324,7,294,1,"natural",-59,26,15,0]]],"next_id":[33,45]}');
INSERT INTO "journal" VALUES(49,1,48,'2026-11-25T17:32:36.009Z','insert_card','{"at": 372, "length": 37, "text": ""}','A card, 37 frames','["Effect on the story''s clock stays: from here on it lies 37 frames earlier against the words."]','{"pieces":[22,[[23,1,73,28,null,"both",100,0]],[[23,1,73,1,null,"both",100,0],[46,null,0,37,["#000000",""],"both",100,0],[45,1,74,27,null,"both",100,0]]],"next_id":[45,47]}');
INSERT INTO "journal" VALUES(50,1,49,'2026-11-25T17:32:36.013Z','set_card','{"piece": 41, "colour": "#000000", "text": "The Last Haul"}','Card changed','[]','{"pieces":[19,[[41,null,0,5,null,"both",100,0]],[[41,null,0,5,["#000000","The Last Haul"],"both",100,0]]]}');
INSERT INTO "journal" VALUES(51,1,50,'2026-11-25T17:32:36.020Z','swap','{"first": 42, "second": 21}','Two pieces swapped','["A jump cut is exposed now (at 0:17+11)."]','{"pieces":[25,[[42,null,0,5,null,"both",100,0],[6,4,35,12,null,"both",100,0],[43,null,0,5,null,"both",100,0],[7,1,282,30,null,"both",100,0],[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,57,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0],[8,1,289,25,null,"both",100,0],[22,null,0,13,["#000000",""],"both",100,0],[21,1,314,12,null,"both",100,0]],[[21,1,314,12,null,"both",100,0],[6,4,35,12,null,"both",100,0],[43,null,0,5,null,"both",100,0],[7,1,282,30,null,"both",100,0],[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,57,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0],[8,1,289,25,null,"both",100,0],[22,null,0,13,["#000000",""],"both",100,0],[42,null,0,5,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(52,1,51,'2026-11-25T17:32:36.024Z','overwrite','{"at": 306, "source": 3, "start": 119, "length": 5, "take": "both"}','boat over 0:12+06 to 0:12+11','[]','{"pieces":[20,[[5,1,44,29,null,"both",100,0]],[[5,1,44,13,null,"both",100,0],[49,3,119,5,null,"both",100,0],[48,1,62,11,null,"both",100,0]]],"next_id":[47,50]}');
INSERT INTO "journal" VALUES(53,1,52,'2026-11-25T17:32:36.032Z','insert_card','{"at": 610, "length": 45}','A card, 45 frames','[]','{"pieces":[34,[[28,null,0,57,["#000000",""],"both",100,0]],[[28,null,0,37,["#000000",""],"both",100,0],[51,null,0,45,["#000000",""],"both",100,0],[50,null,37,20,["#000000",""],"both",100,0]]],"next_id":[50,52]}');
INSERT INTO "journal" VALUES(54,1,53,'2026-11-25T17:32:36.037Z','set_natural','{"cover": 18, "on": true}','fifty: its own sound is heard','[]','{"covers":[1,[[18,4,228,42,27,81,4,false,0]],[[18,4,228,42,27,81,4,true,0]]]}');
INSERT INTO "journal" VALUES(55,1,54,'2026-11-25T17:32:36.041Z','insert_space','{"at": 598, "length": 85}','A space of 85 frames','[]','{"pieces":[34,[[28,null,0,37,["#000000",""],"both",100,0]],[[28,null,0,25,["#000000",""],"both",100,0],[53,null,0,85,null,"both",100,0],[52,null,25,12,["#000000",""],"both",100,0]]],"next_id":[52,54]}');
INSERT INTO "journal" VALUES(56,1,55,'2026-11-25T17:32:36.076Z','retime_cover','{"cover": 18, "span": 21}','fifty at 50 %','["It runs at another speed than it was shot at: its own sound is not heard there."]','{"covers":[1,[[18,4,228,42,27,81,4,true,0]],[[18,4,228,42,27,81,4,true,21]]]}');
INSERT INTO "journal" VALUES(57,1,56,'2026-11-25T17:32:36.082Z','insert_card','{"at": 652, "length": 41, "text": "The Last Haul"}','A card “The Last Haul”, 41 frames','[]','{"pieces":[35,[[53,null,0,85,null,"both",100,0]],[[53,null,0,54,null,"both",100,0],[55,null,0,41,["#000000","The Last Haul"],"both",100,0],[54,null,54,31,null,"both",100,0]]],"next_id":[54,56]}');
INSERT INTO "journal" VALUES(58,1,57,'2026-11-25T17:32:36.103Z','insert_card','{"at": 763, "length": 89, "colour": "#000000"}','A card, 89 frames','[]','{"pieces":[39,[[51,null,0,45,["#000000",""],"both",100,0]],[[51,null,0,27,["#000000",""],"both",100,0],[57,null,0,89,["#000000",""],"both",100,0],[56,null,27,18,["#000000",""],"both",100,0]]],"next_id":[56,58]}');
INSERT INTO "journal" VALUES(59,1,58,'2026-11-25T17:32:36.134Z','move_cover','{"cover": 9, "at": 12, "lane": 2}','boat now begins at 0:00+12','[]','{"covers":[0,[[10,2,285,31,27,80,3,true,136],[18,4,228,42,27,81,4,true,21],[30,2,9,33,7,290,2,true,0],[29,7,226,30,26,0,1,false,0],[9,3,214,13,8,291,1,false,86]],[[9,3,214,13,2,49,2,false,86],[10,2,285,31,27,80,3,true,136],[18,4,228,42,27,81,4,true,21],[30,2,9,33,7,290,2,true,0],[29,7,226,30,26,0,1,false,0]]]}');
INSERT INTO "journal" VALUES(60,1,59,'2026-11-25T17:32:36.191Z','trim_cover','{"cover": 30, "edge": "out", "delta": 9}','B: out point 9 frames later','[]','{"covers":[3,[[30,2,9,33,7,290,2,true,0]],[[30,2,9,42,7,290,2,true,0]]]}');
INSERT INTO "journal" VALUES(61,1,60,'2026-11-25T17:32:36.201Z','insert_card','{"at": 400, "length": 45, "colour": "#000000", "text": ""}','A card, 45 frames','[]','{"pieces":[25,[[46,null,0,37,["#000000",""],"both",100,0]],[[46,null,0,28,["#000000",""],"both",100,0],[59,null,0,45,["#000000",""],"both",100,0],[58,null,28,9,["#000000",""],"both",100,0]]],"next_id":[58,60]}');
INSERT INTO "journal" VALUES(62,1,61,'2026-11-25T17:32:36.205Z','swap','{"first": 8, "second": 26}','Two pieces swapped','[]','{"pieces":[33,[[26,null,0,6,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,25,["#000000",""],"both",100,0],[53,null,0,54,null,"both",100,0],[55,null,0,41,["#000000","The Last Haul"],"both",100,0],[54,null,54,31,null,"both",100,0],[52,null,25,12,["#000000",""],"both",100,0],[51,null,0,27,["#000000",""],"both",100,0],[57,null,0,89,["#000000",""],"both",100,0],[56,null,27,18,["#000000",""],"both",100,0],[50,null,37,20,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0],[8,1,289,25,null,"both",100,0]],[[8,1,289,25,null,"both",100,0],[32,null,0,61,["#000000",""],"both",100,0],[31,null,6,11,null,"both",100,0],[28,null,0,25,["#000000",""],"both",100,0],[53,null,0,54,null,"both",100,0],[55,null,0,41,["#000000","The Last Haul"],"both",100,0],[54,null,54,31,null,"both",100,0],[52,null,25,12,["#000000",""],"both",100,0],[51,null,0,27,["#000000",""],"both",100,0],[57,null,0,89,["#000000",""],"both",100,0],[56,null,27,18,["#000000",""],"both",100,0],[50,null,37,20,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0],[26,null,0,6,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(63,1,62,'2026-11-25T17:32:36.209Z','lay_cover','{"source": 4, "at": 520, "until": 525, "end": 248, "lane": null, "natural": false, "fit": false}','fifty laid over 0:20+20, 5 frames','[]','{"covers":[4,[],[[60,4,243,5,7,292,3,false,0]]],"next_id":[60,61]}');
INSERT INTO "journal" VALUES(64,1,63,'2026-11-25T17:32:36.213Z','swap','{"first": 59, "second": 48}','Two pieces swapped','[]','{"pieces":[22,[[48,1,62,11,null,"both",100,0],[24,null,0,49,["#000000","The Last Haul"],"both",100,0],[23,1,73,1,null,"both",100,0],[46,null,0,28,["#000000",""],"both",100,0],[59,null,0,45,["#000000",""],"both",100,0]],[[59,null,0,45,["#000000",""],"both",100,0],[24,null,0,49,["#000000","The Last Haul"],"both",100,0],[23,1,73,1,null,"both",100,0],[46,null,0,28,["#000000",""],"both",100,0],[48,1,62,11,null,"both",100,0]]]}');
INSERT INTO "journal" VALUES(65,1,64,'2026-11-25T17:32:36.218Z','add_at_end','{"source": 4, "start": 173, "length": 45, "take": "both"}','fifty, 45 frames, at the end','[]','{"pieces":[50,[],[[61,4,173,45,null,"both",100,0]]],"next_id":[61,62]}');
INSERT INTO "journal" VALUES(66,1,65,'2026-11-25T17:32:36.223Z','insert_card','{"at": 876, "length": 29, "text": ""}','A card, 29 frames','[]','{"pieces":[42,[[57,null,0,89,["#000000",""],"both",100,0]],[[57,null,0,49,["#000000",""],"both",100,0],[63,null,0,29,["#000000",""],"both",100,0],[62,null,49,40,["#000000",""],"both",100,0]]],"next_id":[62,64]}');
INSERT INTO "journal" VALUES(67,1,66,'2026-11-25T17:32:36.227Z','insert_card','{"at": 304, "length": 25, "text": "The Last Haul"}','A card “The Last Haul”, 25 frames','["Effect on the story''s clock stays: from here on it lies 25 frames earlier against the words."]','{"pieces":[20,[[5,1,44,13,null,"both",100,0]],[[5,1,44,11,null,"both",100,0],[65,null,0,25,["#000000","The Last Haul"],"both",100,0],[64,1,55,2,null,"both",100,0]]],"next_id":[64,66]}');
INSERT INTO "journal" VALUES(68,1,67,'2026-11-25T17:32:36.232Z','slide','{"piece": 25, "delta": 1}','A slid 1 frame later','["B is 1 frame shorter: the words under them left the story."]','{"pieces":[48,[[50,null,37,20,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,0,5,null,"both",100,0]],[[50,null,37,21,["#000000",""],"both",100,0],[25,1,312,27,null,"both",100,0],[44,null,1,4,null,"both",100,0]]],"sounds":[1,[[20,2,176,1324,7,294,1,"natural",-59,26,15,0]],[[20,2,176,1323,7,294,1,"natural",-59,26,15,0]]]}');
INSERT INTO "journal" VALUES(69,1,68,'2026-11-25T17:32:36.240Z','lay_sound','{"source": 2, "at": 577, "until": 622, "kind": "effect", "clock_bound": false, "level": -79}','B laid under 0:23+02, 45 frames','["B moved to lane 2, so that both sounds keep their words."]','{"sounds":[2,[],[[66,2,0,45,8,301,2,"effect",-79,0,0,0]]],"next_id":[66,67]}');
INSERT INTO "journal" VALUES(70,1,69,'2026-11-25T17:32:36.243Z','retime_cover','{"cover": 10, "span": 19}','B at 61 %','["It runs at another speed than it was shot at: its own sound is not heard there."]','{"covers":[1,[[10,2,285,31,27,80,3,true,136]],[[10,2,285,31,27,80,3,true,19]]]}');
INSERT INTO "journal" VALUES(71,1,70,'2026-11-25T17:32:36.247Z','set_zoom','{"piece": 16, "percent": 125}','A shown at 125 %','[]','{"pieces":[14,[[16,1,94,14,null,"picture",100,0]],[[16,1,94,14,null,"picture",125,0]]]}');
INSERT INTO "journal" VALUES(72,1,71,'2026-11-25T17:32:36.250Z','crossfade','{"piece": 65, "frames": 6}','Crossfade of 6 frames at 0:12+04','[]','{"joins":[0,[],[[5,65,0,"cut",0,6]]]}');
INSERT INTO "journal" VALUES(73,1,72,'2026-11-25T17:32:36.254Z','set_blend','{"piece": 62, "blend": "dip", "length": 14}','A dip to black of 14 frames at 0:37+05','[]','{"joins":[1,[],[[63,62,0,"dip",14,0]]]}');
INSERT INTO "journal" VALUES(74,1,73,'2026-11-25T17:32:36.262Z','set_blend','{"piece": 16, "blend": "dissolve", "length": 1}','A dissolve of 1 frame at 0:09+07','[]','{"joins":[0,[],[[38,16,0,"dissolve",1,0]]]}');
INSERT INTO "journal" VALUES(75,1,74,'2026-11-25T17:32:36.265Z','set_blend','{"piece": 63, "blend": "dip", "length": 13}','A dip to black of 13 frames at 0:36+01','[]','{"joins":[2,[],[[57,63,0,"dip",13,0]]]}');
INSERT INTO "journal" VALUES(76,1,75,'2026-11-25T17:32:36.277Z','set_blend','{"piece": 39, "blend": "dip", "length": 2}','A dip to black of 2 frames at 0:09+21','[]','{"joins":[1,[],[[16,39,0,"dip",2,0]]]}');
INSERT INTO "journal" VALUES(77,1,76,'2026-11-25T17:32:36.282Z','set_zoom','{"piece": 21, "percent": 125}','A shown at 125 %','[]','{"pieces":[31,[[21,1,314,12,null,"both",100,0]],[[21,1,314,12,null,"both",125,0]]]}');
INSERT INTO "journal" VALUES(78,1,77,'2026-11-25T17:32:36.290Z','set_blend','{"piece": 7, "blend": "dip", "length": 5}','A dip to black of 5 frames at 0:21+10','[]','{"joins":[3,[],[[43,7,0,"dip",5,0]]]}');
INSERT INTO "journal" VALUES(79,1,78,'2026-11-25T17:32:36.293Z','crossfade','{"piece": 51, "frames": 6}','Crossfade of 6 frames at 0:33+00','[]','{"joins":[4,[],[[52,51,0,"cut",0,6]]]}');
INSERT INTO "journal" VALUES(80,1,79,'2026-11-25T17:32:36.296Z','set_blend','{"piece": 45, "blend": "dissolve", "length": 3}','A dissolve of 3 frames at 0:19+04','[]','{"joins":[3,[],[[58,45,0,"dissolve",3,0]]]}');
INSERT INTO "journal" VALUES(81,1,80,'2026-11-25T17:32:36.307Z','set_blend','{"piece": 58, "blend": "dissolve", "length": 3}','A dissolve of 3 frames at 0:18+20','[]','{"joins":[3,[],[[48,58,0,"dissolve",3,0]]]}');
INSERT INTO "journal" VALUES(82,1,81,'2026-11-25T17:32:36.313Z','set_blend','{"piece": 4, "blend": "dissolve", "length": 5}','A dissolve of 5 frames at 0:08+17','[]','{"joins":[0,[],[[37,4,0,"dissolve",5,0]]]}');
INSERT INTO "journal" VALUES(83,1,82,'2026-11-25T17:32:36.317Z','crossfade','{"piece": 57, "frames": 6}','Crossfade of 6 frames at 0:34+02','[]','{"joins":[8,[],[[51,57,0,"cut",0,6]]]}');
INSERT INTO "journal" VALUES(84,1,83,'2026-11-25T17:32:36.321Z','set_blend','{"piece": 53, "blend": "dip", "length": 3}','A dip to black of 3 frames at 0:27+12','[]','{"joins":[7,[],[[28,53,0,"dip",3,0]]]}');
INSERT INTO "journal" VALUES(85,1,84,'2026-11-25T17:32:36.324Z','set_blend','{"piece": 43, "blend": "dissolve", "length": 1}','A dissolve of 1 frame at 0:21+05','[]','{"joins":[6,[],[[6,43,0,"dissolve",1,0]]]}');
INSERT INTO "journal" VALUES(86,1,85,'2026-11-25T17:32:36.329Z','set_blend','{"piece": 51, "blend": "dip", "length": 5}','A dip to black of 5 frames at 0:33+00','[]','{"joins":[9,[[52,51,0,"cut",0,6]],[[52,51,0,"dip",5,6]]]}');
INSERT INTO "journal" VALUES(87,1,86,'2026-11-25T17:32:36.339Z','set_blend','{"piece": 2, "blend": "dip", "length": 15}','A fade of 15 frames at 0:00+00','[]','{"joins":[0,[],[[0,2,0,"dip",15,0]]]}');
INSERT INTO "journal" VALUES(88,1,87,'2026-11-25T17:32:36.344Z','set_blend','{"piece": 53, "blend": "dissolve", "length": 16}','A dissolve of 16 frames at 0:27+12','[]','{"joins":[9,[[28,53,0,"dip",3,0]],[[28,53,0,"dissolve",16,0]]]}');
INSERT INTO "journal" VALUES(89,1,88,'2026-11-25T17:32:36.350Z','set_blend','{"piece": 51, "blend": "dip", "length": 2}','A dip to black of 2 frames at 0:33+00','[]','{"joins":[10,[[52,51,0,"dip",5,6]],[[52,51,0,"dip",2,6]]]}');
INSERT INTO "journal" VALUES(90,1,89,'2026-11-25T17:32:36.354Z','set_blend','{"piece": 58, "blend": "dip", "length": 3}','A dip to black of 3 frames at 0:18+20','[]','{"joins":[5,[[48,58,0,"dissolve",3,0]],[[48,58,0,"dip",3,0]]]}');
INSERT INTO "journal" VALUES(91,1,90,'2026-11-25T17:32:36.359Z','set_blend','{"piece": 24, "blend": "dip", "length": 8}','A dip to black of 8 frames at 0:15+06','[]','{"joins":[5,[],[[59,24,0,"dip",8,0]]]}');
INSERT INTO "journal" VALUES(92,1,91,'2026-11-25T17:32:36.365Z','set_blend','{"piece": 65, "blend": "dip", "length": 7}','A dip to black of 7 frames at 0:12+04','[]','{"joins":[4,[[5,65,0,"cut",0,6]],[[5,65,0,"dip",7,6]]]}');
INSERT INTO "journal" VALUES(93,1,92,'2026-11-25T17:32:36.368Z','set_blend','{"piece": 2, "blend": "dip", "length": 24}','A fade of 24 frames at 0:00+00','[]','{"joins":[0,[[0,2,0,"dip",15,0]],[[0,2,0,"dip",24,0]]]}');
INSERT INTO "journal" VALUES(94,1,93,'2026-11-25T17:32:36.372Z','set_blend','{"piece": 22, "blend": "dissolve", "length": 7}','A dissolve of 7 frames at 0:41+21','[]','{"joins":[15,[],[[26,22,0,"dissolve",7,0]]]}');
CREATE TABLE laid_sound (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  loose INTEGER NOT NULL, ordinal INTEGER NOT NULL,
  source INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),
  piece INTEGER NOT NULL, moment INTEGER NOT NULL, lane INTEGER NOT NULL CHECK (lane >= 1),
  kind TEXT NOT NULL, level INTEGER NOT NULL, rise INTEGER NOT NULL, fall INTEGER NOT NULL, grp INTEGER NOT NULL,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
INSERT INTO "laid_sound" VALUES(1,15,0,0,6,81,9,0,382,2,'effect',-37,0,0,0);
INSERT INTO "laid_sound" VALUES(1,20,0,1,2,176,1323,7,294,1,'natural',-59,26,15,0);
INSERT INTO "laid_sound" VALUES(1,66,0,2,2,0,45,8,301,2,'effect',-79,0,0,0);
CREATE TABLE log_step (                         
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  did TEXT NOT NULL,
  change TEXT NOT NULL,                         
  undone INTEGER NOT NULL DEFAULT 0,
  at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
CREATE TABLE marker (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  frame INTEGER NOT NULL,                       
  name TEXT NOT NULL DEFAULT ''
);
CREATE TABLE piece (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  source INTEGER, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0), card TEXT, take TEXT NOT NULL DEFAULT 'both', zoom INTEGER NOT NULL DEFAULT 100, grp INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
INSERT INTO "piece" VALUES(1,1,4,2,77,55,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,2,0,1,37,29,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,3,8,1,187,20,NULL,'picture',100,0);
INSERT INTO "piece" VALUES(1,4,12,1,260,10,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,5,20,1,44,11,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,6,32,4,35,12,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,7,34,1,282,30,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,8,35,1,289,25,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,11,16,1,270,20,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,12,7,NULL,0,10,'["#8a2f2f", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,14,18,1,290,12,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,16,14,1,94,14,NULL,'picture',125,0);
INSERT INTO "piece" VALUES(1,17,10,1,207,48,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,19,6,1,82,14,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,21,31,1,314,12,NULL,'both',125,0);
INSERT INTO "piece" VALUES(1,22,52,NULL,0,13,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,23,26,1,73,1,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,24,25,NULL,0,49,'["#000000", "The Last Haul"]','both',100,0);
INSERT INTO "piece" VALUES(1,25,49,1,312,27,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,26,51,NULL,0,6,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,27,2,1,66,16,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,28,38,NULL,0,25,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,31,37,NULL,6,11,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,32,36,NULL,0,61,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,33,1,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,34,3,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,35,5,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,36,9,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,37,11,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,38,13,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,39,15,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,40,17,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,41,19,NULL,0,5,'["#000000", "The Last Haul"]','both',100,0);
INSERT INTO "piece" VALUES(1,42,53,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,43,33,NULL,0,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,44,50,NULL,1,4,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,45,30,1,74,27,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,46,27,NULL,0,28,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,48,28,1,62,11,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,49,23,3,119,5,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,50,48,NULL,37,21,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,51,43,NULL,0,27,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,52,42,NULL,25,12,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,53,39,NULL,0,54,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,54,41,NULL,54,31,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,55,40,NULL,0,41,'["#000000", "The Last Haul"]','both',100,0);
INSERT INTO "piece" VALUES(1,56,47,NULL,27,18,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,57,44,NULL,0,49,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,58,29,NULL,28,9,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,59,24,NULL,0,45,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,61,54,4,173,45,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,62,46,NULL,49,40,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,63,45,NULL,0,29,'["#000000", ""]','both',100,0);
INSERT INTO "piece" VALUES(1,64,22,1,55,2,NULL,'both',100,0);
INSERT INTO "piece" VALUES(1,65,21,NULL,0,25,'["#000000", "The Last Haul"]','both',100,0);
CREATE TABLE project (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  rate_num INTEGER NOT NULL, rate_den INTEGER NOT NULL,
  width INTEGER NOT NULL, height INTEGER NOT NULL,
  start_frame INTEGER NOT NULL DEFAULT 0,      
  drop_frame INTEGER NOT NULL DEFAULT 0,
  created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  archived INTEGER NOT NULL DEFAULT 0,
  deleted TEXT                                  
, story INTEGER);
INSERT INTO "project" VALUES(1,'Before settings',25,1,1920,1080,0,0,'2026-11-25T17:32:35.629Z',0,NULL,NULL);
CREATE TABLE recording (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  path TEXT NOT NULL,
  name TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('interview', 'b-roll', 'sound', 'music', 'still')),
  roll TEXT NOT NULL DEFAULT '', camera TEXT NOT NULL DEFAULT '', day TEXT NOT NULL DEFAULT '',
  ordinal REAL NOT NULL,
  aside INTEGER NOT NULL DEFAULT 0,             
  size INTEGER NOT NULL, checksum TEXT NOT NULL DEFAULT '',
  rate_num INTEGER NOT NULL, rate_den INTEGER NOT NULL,
  frames INTEGER,                               
  picture INTEGER NOT NULL, sound INTEGER NOT NULL,
  width INTEGER NOT NULL DEFAULT 0, height INTEGER NOT NULL DEFAULT 0,
  channels INTEGER NOT NULL DEFAULT 0,
  start_timecode TEXT NOT NULL DEFAULT '',
  remarks TEXT NOT NULL DEFAULT '[]',           
  ready INTEGER NOT NULL DEFAULT 0,
  added TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), sync_set INTEGER, sync_offset INTEGER NOT NULL DEFAULT 0, sync_ppm REAL NOT NULL DEFAULT 0, sync_sure REAL NOT NULL DEFAULT 0, sync_how TEXT NOT NULL DEFAULT '', said INTEGER NOT NULL DEFAULT 0,
  UNIQUE (project, path)
);
INSERT INTO "recording" VALUES(1,1,'/nowhere/A.mp4','A','interview','Rx','A','',1.0,0,1,'',25,1,2000,1,1,16,9,1,'','[]',0,'2026-11-25T17:32:35.630Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(2,1,'/nowhere/B.mp4','B','interview','Ry','A','',2.0,0,1,'',25,1,1500,1,1,16,9,1,'','[]',0,'2026-11-25T17:32:35.634Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(3,1,'/nowhere/boat.mp4','boat','b-roll','','','',3.0,0,1,'',25,1,300,1,0,16,9,1,'','[]',0,'2026-11-25T17:32:35.635Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(4,1,'/nowhere/fifty.mp4','fifty','b-roll','','','',4.0,0,1,'',50,1,801,1,1,16,9,1,'','[]',0,'2026-11-25T17:32:35.636Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(5,1,'/nowhere/still.mp4','still','b-roll','','','',5.0,0,1,'',25,1,NULL,1,0,16,9,1,'','[]',0,'2026-11-25T17:32:35.637Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(6,1,'/nowhere/voice.mp4','voice','b-roll','','','',6.0,0,1,'',25,1,900,0,1,16,9,1,'','[]',0,'2026-11-25T17:32:35.638Z',NULL,0,0.0,0.0,'',0);
INSERT INTO "recording" VALUES(7,1,'/nowhere/ntsc.mp4','ntsc','interview','Rx','A','',7.0,0,1,'',30000,1001,1000,1,1,16,9,1,'','[]',0,'2026-11-25T17:32:35.639Z',NULL,0,0.0,0.0,'',0);
CREATE TABLE seam (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  ordinal INTEGER NOT NULL,
  left_piece INTEGER NOT NULL, right_piece INTEGER NOT NULL,  
  split INTEGER NOT NULL, blend TEXT NOT NULL, length INTEGER NOT NULL, cross INTEGER NOT NULL,
  PRIMARY KEY (story, left_piece, right_piece)
) WITHOUT ROWID;
INSERT INTO "seam" VALUES(1,0,0,2,0,'dip',24,0);
INSERT INTO "seam" VALUES(1,4,5,65,0,'dip',7,6);
INSERT INTO "seam" VALUES(1,8,6,43,0,'dissolve',1,0);
INSERT INTO "seam" VALUES(1,3,16,39,0,'dip',2,0);
INSERT INTO "seam" VALUES(1,15,26,22,0,'dissolve',7,0);
INSERT INTO "seam" VALUES(1,10,28,53,0,'dissolve',16,0);
INSERT INTO "seam" VALUES(1,1,37,4,0,'dissolve',5,0);
INSERT INTO "seam" VALUES(1,2,38,16,0,'dissolve',1,0);
INSERT INTO "seam" VALUES(1,9,43,7,0,'dip',5,0);
INSERT INTO "seam" VALUES(1,6,48,58,0,'dip',3,0);
INSERT INTO "seam" VALUES(1,12,51,57,0,'cut',0,6);
INSERT INTO "seam" VALUES(1,11,52,51,0,'dip',2,6);
INSERT INTO "seam" VALUES(1,13,57,63,0,'dip',13,0);
INSERT INTO "seam" VALUES(1,7,58,45,0,'dissolve',3,0);
INSERT INTO "seam" VALUES(1,5,59,24,0,'dip',8,0);
INSERT INTO "seam" VALUES(1,14,63,62,0,'dip',14,0);
CREATE TABLE section (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  piece INTEGER NOT NULL, heading TEXT NOT NULL, target INTEGER NOT NULL,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
CREATE TABLE sentence (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  start INTEGER NOT NULL, end INTEGER NOT NULL,  
  speaker TEXT NOT NULL, text TEXT NOT NULL
);
PRAGMA writable_schema=ON;
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE story (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  revision INTEGER NOT NULL DEFAULT 0,
  head INTEGER,                                 
  next_id INTEGER NOT NULL DEFAULT 1,
  locked TEXT NOT NULL DEFAULT '[]'
, muted TEXT NOT NULL DEFAULT '[]', soloed TEXT NOT NULL DEFAULT '[]', target INTEGER NOT NULL DEFAULT 0, along TEXT NOT NULL DEFAULT '[]');
INSERT INTO "story" VALUES(1,1,'Story cut',154,94,67,'[]','[]','[]',0,'[]');
CREATE TABLE "subclip" (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),  
  note TEXT NOT NULL DEFAULT '', tags TEXT NOT NULL DEFAULT '',
  verdict TEXT NOT NULL DEFAULT 'keep' CHECK (verdict IN ('', 'keep', 'maybe', 'drop')),  
  board REAL,                                   
  created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
CREATE TABLE word (
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  i INTEGER NOT NULL,
  text TEXT NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL,  
  speaker TEXT NOT NULL DEFAULT '', sure REAL NOT NULL DEFAULT 1,
  PRIMARY KEY (recording, i)
) WITHOUT ROWID;
CREATE INDEX journal_story ON journal(story, parent);
CREATE INDEX job_state ON job(state);
CREATE INDEX sentence_recording ON sentence(recording);
CREATE INDEX word_time ON word(recording, start);
CREATE INDEX subclip_recording ON subclip(recording);
CREATE INDEX marker_recording ON marker(recording);
CREATE INDEX log_step_project ON log_step(project, undone);
PRAGMA writable_schema=OFF;
COMMIT;
PRAGMA user_version = 7;

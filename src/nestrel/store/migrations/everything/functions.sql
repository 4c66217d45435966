-- created_at never decreases with seq, so the message of a moment is found by halving on the primary key, and time needs
-- no index of its own. Kept rows run without a gap from floor to head.
CREATE FUNCTION nestrel.seq_at_v1(conversation uuid, moment timestamp with time zone)
 RETURNS bigint
 LANGUAGE plpgsql
 STABLE
AS $function$
DECLARE
    low bigint; high bigint; middle bigint; at timestamptz;
BEGIN
    SELECT c.floor, c.head + 1 INTO low, high FROM nestrel.conversations c WHERE c.id = conversation;
    WHILE low < high LOOP
        middle := (low + high) / 2;
        SELECT m.created_at INTO at FROM nestrel.messages m WHERE m.conversation_id = conversation AND m.seq = middle;
        IF at IS NULL OR at < moment THEN low := middle + 1; ELSE high := middle; END IF;
    END LOOP;
    RETURN low;
END $function$
;
-- Within a conversation rev order is commit order, so what a snapshot saw of it is a prefix of rev. Rows that changed since
-- hide how far it went exactly; the newest row that it saw gives a place at or before that. Each walk ends at the first row
-- that was seen, or after `most`.
CREATE FUNCTION nestrel.seen_v1(conversation uuid, seen pg_snapshot, most integer)
 RETURNS TABLE(rev bigint, seq bigint, beyond boolean)
 LANGUAGE plpgsql
 STABLE
AS $function$
DECLARE
    one record; unseen integer := 0; present xid8 := pg_snapshot_xmax(pg_current_snapshot());
BEGIN
    rev := 0; seq := 0;
    FOR one IN SELECT m.seq, m.rev, m.moved_xid FROM nestrel.messages m
               WHERE m.conversation_id = conversation ORDER BY m.seq DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := one.rev; seq := one.seq;
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT m.rev, m.moved_xid FROM nestrel.messages m
               WHERE m.conversation_id = conversation AND m.changed ORDER BY m.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT c.rev, c.moved_xid FROM nestrel.reaction_counts c
               WHERE c.conversation_id = conversation ORDER BY c.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT m.rev, m.moved_xid FROM nestrel.members m
               WHERE m.conversation_id = conversation ORDER BY m.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    beyond := unseen > most;
    RETURN NEXT;
END $function$
;
-- A moment less a span of months and days, in UTC.
CREATE FUNCTION nestrel.before_v1(moment timestamp with time zone, span interval)
 RETURNS timestamp with time zone
 LANGUAGE sql
 STABLE
AS $function$
    SELECT CASE WHEN extract(day FROM moment - months) = extract(day FROM moment) THEN moment - months
                ELSE date_trunc('month', moment) - months + interval '1 month' - interval '1 microsecond' END
           - (span - months)
    FROM make_interval(months => (12 * extract(year FROM span) + extract(month FROM span))::int) months
$function$
;
-- What has expired by age is a prefix. The walk leaps from the floor, as what has expired since the last sweep is little.
CREATE FUNCTION nestrel.floor_v1(conversation uuid, floor bigint, head bigint, cutoff timestamp with time zone)
 RETURNS bigint
 LANGUAGE plpgsql
 STABLE
AS $function$
DECLARE
    low bigint := floor; high bigint := head + 1; probe bigint := floor; leap bigint := 1; at timestamptz;
BEGIN
    WHILE low < high LOOP
        SELECT m.created_at INTO at FROM nestrel.messages m WHERE m.conversation_id = conversation AND m.seq = probe;
        IF at IS NULL OR at > cutoff THEN
            high := probe; leap := 0;
        ELSE
            low := probe + 1; leap := leap * 2;
        END IF;
        probe := CASE WHEN leap > 0 THEN least(low + leap - 1, high - 1) ELSE (low + high) / 2 END;
    END LOOP;
    RETURN low;
END $function$
;
-- By a trigger, so that nothing moves beside the journal, code of before that still serves included.
CREATE FUNCTION nestrel.journal_v1()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$
BEGIN
    INSERT INTO nestrel.journal (ids, revs) SELECT array_agg(id), array_agg(rev) FROM moved
    WHERE moved_xid = pg_current_xact_id() HAVING count(*) > 0;
    RETURN NULL;
END $function$
;
-- By a trigger, so that no statement can forget it, an operator's own included; its condition is looked at without calling it.
CREATE FUNCTION nestrel.guard_v1()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$
BEGIN
    NEW.guard := OLD.guard + 1;
    RETURN NEW;
END $function$
;
-- Nothing in the audit is ever changed, but a count of an hour, which grows.
CREATE FUNCTION nestrel.audit_stays_v1()
 RETURNS trigger
 LANGUAGE plpgsql
AS $function$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        IF NEW.times > OLD.times AND NEW.at > clock_timestamp() - interval '2 hours'
            AND (NEW.audit_id, NEW.at, NEW.actor, NEW.act, NEW.conversation_id, NEW.user_id, NEW.hourly)
                = (OLD.audit_id, OLD.at, OLD.actor, OLD.act, OLD.conversation_id, OLD.user_id, OLD.hourly)
            AND NEW.before IS NULL AND OLD.before IS NULL AND NEW.after IS NULL AND OLD.after IS NULL
        THEN
            RETURN NEW;
        END IF;
    END IF;
    RAISE EXCEPTION 'the audit is only added to; whole months are dropped by the owner of the schema'
        USING ERRCODE = 'insufficient_privilege';
END $function$
;
-- Makes the months to come, so many ahead.
CREATE FUNCTION nestrel.audit_months_v1(ahead integer)
 RETURNS integer
 LANGUAGE plpgsql
 SECURITY DEFINER
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
DECLARE
    month timestamptz := date_trunc('month', clock_timestamp(), 'UTC');
    name text;
    grantee text;
    made integer := 0;
BEGIN
    FOR n IN 0..least(ahead, 24) LOOP
        name := 'audit_' || to_char(month AT TIME ZONE 'UTC', 'YYYYMM');
        IF to_regclass('nestrel.' || name) IS NULL AND NOT EXISTS (
            SELECT FROM nestrel.audit_rest WHERE at >= month AND at < month + interval '1 month') THEN
            EXECUTE format('CREATE TABLE nestrel.%I PARTITION OF nestrel.audit FOR VALUES FROM (%L) TO (%L)',
                           name, month, month + interval '1 month');
            FOR grantee IN
                SELECT DISTINCT a.grantee::regrole::text FROM pg_class c, aclexplode(c.relacl) a
                WHERE c.oid = to_regclass('nestrel.' || name) AND a.grantee NOT IN (0, c.relowner)
            LOOP
                EXECUTE format('REVOKE ALL ON nestrel.%I FROM %s', name, grantee);
            END LOOP;
            made := made + 1;
        END IF;
        month := month + interval '1 month';
    END LOOP;
    RETURN made;
END $function$
;
REVOKE ALL ON FUNCTION nestrel.audit_months_v1(ahead integer) FROM PUBLIC
;
CREATE FUNCTION nestrel.take_rates_v1(policies text[], keys text[], done integer[], wanted integer[], most integer[])
 RETURNS TABLE(granted boolean, remaining integer, seconds integer)
 LANGUAGE plpgsql
AS $function$
DECLARE
    n integer;
    now bigint;
    before bigint;
    ring integer[];
    used integer;
    freed integer;
BEGIN
    FOR n IN 1..coalesce(array_length(keys, 1), 0) LOOP
        INSERT INTO nestrel.rates (policy, key, at, slots) VALUES (policies[n], keys[n], 0, array_fill(0, ARRAY[60]))
        ON CONFLICT DO NOTHING;
        SELECT r.at, r.slots INTO before, ring FROM nestrel.rates r WHERE r.policy = policies[n] AND r.key = keys[n]
        FOR NO KEY UPDATE;
        now := greatest(floor(extract(epoch FROM clock_timestamp()))::bigint, before);
        IF now - before >= 60 THEN
            ring := array_fill(0, ARRAY[60]);
        ELSE
            FOR past IN 1..(now - before)::integer LOOP
                ring[(before + past) % 60 + 1] := 0;
            END LOOP;
        END IF;
        SELECT sum(x) INTO used FROM unnest(ring) x;
        used := used + done[n];
        granted := used + wanted[n] <= most[n];
        IF granted THEN
            used := used + wanted[n];
        END IF;
        ring[now % 60 + 1] := ring[now % 60 + 1] + done[n] + CASE WHEN granted THEN wanted[n] ELSE 0 END;
        IF done[n] > 0 OR granted THEN
            UPDATE nestrel.rates r SET at = now, slots = ring WHERE r.policy = policies[n] AND r.key = keys[n];
        END IF;
        remaining := greatest(most[n] - used, 0);
        seconds := 60;
        freed := 0;
        IF NOT granted THEN
            FOR ahead IN 1..60 LOOP
                freed := freed + ring[(now + ahead) % 60 + 1];
                IF used - freed + wanted[n] <= most[n] THEN
                    seconds := ahead;
                    EXIT;
                END IF;
            END LOOP;
        END IF;
        RETURN NEXT;
    END LOOP;
END $function$
;
-- As `core.text.name_key`: compatibility form, full case folding (Unicode 3.13), compatibility form. The server's own `lower`
-- depends on its locale, so the folding is written out.
CREATE FUNCTION nestrel.name_key_v1(name text)
 RETURNS text
 LANGUAGE plpgsql
 IMMUTABLE STRICT
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
DECLARE
    folded text := translate(normalize(name, NFKC), 'ABCDEFGHIJKLMNOPQRSTUVWXYZµÀÁÂÃÄÅÆÇÈÉÊËÌÍÎÏÐÑÒÓÔÕÖØÙÚÛÜÝÞĀĂĄĆĈĊČĎĐĒĔĖĘĚĜĞĠĢĤĦĨĪĬĮĲĴĶĹĻĽĿŁŃŅŇŊŌŎŐŒŔŖŘŚŜŞŠŢŤŦŨŪŬŮŰŲŴŶŸŹŻŽſƁƂƄƆƇƉƊƋƎƏƐƑƓƔƖƗƘƜƝƟƠƢƤƦƧƩƬƮƯƱƲƳƵƷƸƼǄǅǇǈǊǋǍǏǑǓǕǗǙǛǞǠǢǤǦǨǪǬǮǱǲǴǶǷǸǺǼǾȀȂȄȆȈȊȌȎȐȒȔȖȘȚȜȞȠȢȤȦȨȪȬȮȰȲȺȻȽȾɁɃɄɅɆɈɊɌɎͅͰͲͶͿΆΈΉΊΌΎΏΑΒΓΔΕΖΗΘΙΚΛΜΝΞΟΠΡΣΤΥΦΧΨΩΪΫςϏϐϑϕϖϘϚϜϞϠϢϤϦϨϪϬϮϰϱϴϵϷϹϺϽϾϿЀЁЂЃЄЅІЇЈЉЊЋЌЍЎЏАБВГДЕЖЗИЙКЛМНОПРСТУФХЦЧШЩЪЫЬЭЮЯѠѢѤѦѨѪѬѮѰѲѴѶѸѺѼѾҀҊҌҎҐҒҔҖҘҚҜҞҠҢҤҦҨҪҬҮҰҲҴҶҸҺҼҾӀӁӃӅӇӉӋӍӐӒӔӖӘӚӜӞӠӢӤӦӨӪӬӮӰӲӴӶӸӺӼӾԀԂԄԆԈԊԌԎԐԒԔԖԘԚԜԞԠԢԤԦԨԪԬԮԱԲԳԴԵԶԷԸԹԺԻԼԽԾԿՀՁՂՃՄՅՆՇՈՉՊՋՌՍՎՏՐՑՒՓՔՕՖႠႡႢႣႤႥႦႧႨႩႪႫႬႭႮႯႰႱႲႳႴႵႶႷႸႹႺႻႼႽႾႿჀჁჂჃჄჅჇჍᏸᏹᏺᏻᏼᏽᲀᲁᲂᲃᲄᲅᲆᲇᲈᲐᲑᲒᲓᲔᲕᲖᲗᲘᲙᲚᲛᲜᲝᲞᲟᲠᲡᲢᲣᲤᲥᲦᲧᲨᲩᲪᲫᲬᲭᲮᲯᲰᲱᲲᲳᲴᲵᲶᲷᲸᲹᲺᲽᲾᲿḀḂḄḆḈḊḌḎḐḒḔḖḘḚḜḞḠḢḤḦḨḪḬḮḰḲḴḶḸḺḼḾṀṂṄṆṈṊṌṎṐṒṔṖṘṚṜṞṠṢṤṦṨṪṬṮṰṲṴṶṸṺṼṾẀẂẄẆẈẊẌẎẐẒẔẛẠẢẤẦẨẪẬẮẰẲẴẶẸẺẼẾỀỂỄỆỈỊỌỎỐỒỔỖỘỚỜỞỠỢỤỦỨỪỬỮỰỲỴỶỸỺỼỾἈἉἊἋἌἍἎἏἘἙἚἛἜἝἨἩἪἫἬἭἮἯἸἹἺἻἼἽἾἿὈὉὊὋὌὍὙὛὝὟὨὩὪὫὬὭὮὯᾸᾹᾺΆιῈΈῊΉῘῙῚΊῨῩῪΎῬῸΌῺΏΩKÅℲⅠⅡⅢⅣⅤⅥⅦⅧⅨⅩⅪⅫⅬⅭⅮⅯↃⒶⒷⒸⒹⒺⒻⒼⒽⒾⒿⓀⓁⓂⓃⓄⓅⓆⓇⓈⓉⓊⓋⓌⓍⓎⓏⰀⰁⰂⰃⰄⰅⰆⰇⰈⰉⰊⰋⰌⰍⰎⰏⰐⰑⰒⰓⰔⰕⰖⰗⰘⰙⰚⰛⰜⰝⰞⰟⰠⰡⰢⰣⰤⰥⰦⰧⰨⰩⰪⰫⰬⰭⰮⰯⱠⱢⱣⱤⱧⱩⱫⱭⱮⱯⱰⱲⱵⱾⱿⲀⲂⲄⲆⲈⲊⲌⲎⲐⲒⲔⲖⲘⲚⲜⲞⲠⲢⲤⲦⲨⲪⲬⲮⲰⲲⲴⲶⲸⲺⲼⲾⳀⳂⳄⳆⳈⳊⳌⳎⳐⳒⳔⳖⳘⳚⳜⳞⳠⳢⳫⳭⳲꙀꙂꙄꙆꙈꙊꙌꙎꙐꙒꙔꙖꙘꙚꙜꙞꙠꙢꙤꙦꙨꙪꙬꚀꚂꚄꚆꚈꚊꚌꚎꚐꚒꚔꚖꚘꚚꜢꜤꜦꜨꜪꜬꜮꜲꜴꜶꜸꜺꜼꜾꝀꝂꝄꝆꝈꝊꝌꝎꝐꝒꝔꝖꝘꝚꝜꝞꝠꝢꝤꝦꝨꝪꝬꝮꝹꝻꝽꝾꞀꞂꞄꞆꞋꞍꞐꞒꞖꞘꞚꞜꞞꞠꞢꞤꞦꞨꞪꞫꞬꞭꞮꞰꞱꞲꞳꞴꞶꞸꞺꞼꞾꟀꟂꟄꟅꟆꟇꟉꟐꟖꟘꟵꭰꭱꭲꭳꭴꭵꭶꭷꭸꭹꭺꭻꭼꭽꭾꭿꮀꮁꮂꮃꮄꮅꮆꮇꮈꮉꮊꮋꮌꮍꮎꮏꮐꮑꮒꮓꮔꮕꮖꮗꮘꮙꮚꮛꮜꮝꮞꮟꮠꮡꮢꮣꮤꮥꮦꮧꮨꮩꮪꮫꮬꮭꮮꮯꮰꮱꮲꮳꮴꮵꮶꮷꮸꮹꮺꮻꮼꮽꮾꮿＡＢＣＤＥＦＧＨＩＪＫＬＭＮＯＰＱＲＳＴＵＶＷＸＹＺ𐐀𐐁𐐂𐐃𐐄𐐅𐐆𐐇𐐈𐐉𐐊𐐋𐐌𐐍𐐎𐐏𐐐𐐑𐐒𐐓𐐔𐐕𐐖𐐗𐐘𐐙𐐚𐐛𐐜𐐝𐐞𐐟𐐠𐐡𐐢𐐣𐐤𐐥𐐦𐐧𐒰𐒱𐒲𐒳𐒴𐒵𐒶𐒷𐒸𐒹𐒺𐒻𐒼𐒽𐒾𐒿𐓀𐓁𐓂𐓃𐓄𐓅𐓆𐓇𐓈𐓉𐓊𐓋𐓌𐓍𐓎𐓏𐓐𐓑𐓒𐓓𐕰𐕱𐕲𐕳𐕴𐕵𐕶𐕷𐕸𐕹𐕺𐕼𐕽𐕾𐕿𐖀𐖁𐖂𐖃𐖄𐖅𐖆𐖇𐖈𐖉𐖊𐖌𐖍𐖎𐖏𐖐𐖑𐖒𐖔𐖕𐲀𐲁𐲂𐲃𐲄𐲅𐲆𐲇𐲈𐲉𐲊𐲋𐲌𐲍𐲎𐲏𐲐𐲑𐲒𐲓𐲔𐲕𐲖𐲗𐲘𐲙𐲚𐲛𐲜𐲝𐲞𐲟𐲠𐲡𐲢𐲣𐲤𐲥𐲦𐲧𐲨𐲩𐲪𐲫𐲬𐲭𐲮𐲯𐲰𐲱𐲲𑢠𑢡𑢢𑢣𑢤𑢥𑢦𑢧𑢨𑢩𑢪𑢫𑢬𑢭𑢮𑢯𑢰𑢱𑢲𑢳𑢴𑢵𑢶𑢷𑢸𑢹𑢺𑢻𑢼𑢽𑢾𑢿𖹀𖹁𖹂𖹃𖹄𖹅𖹆𖹇𖹈𖹉𖹊𖹋𖹌𖹍𖹎𖹏𖹐𖹑𖹒𖹓𖹔𖹕𖹖𖹗𖹘𖹙𖹚𖹛𖹜𖹝𖹞𖹟𞤀𞤁𞤂𞤃𞤄𞤅𞤆𞤇𞤈𞤉𞤊𞤋𞤌𞤍𞤎𞤏𞤐𞤑𞤒𞤓𞤔𞤕𞤖𞤗𞤘𞤙𞤚𞤛𞤜𞤝𞤞𞤟𞤠𞤡', 'abcdefghijklmnopqrstuvwxyzμàáâãäåæçèéêëìíîïðñòóôõöøùúûüýþāăąćĉċčďđēĕėęěĝğġģĥħĩīĭįĳĵķĺļľŀłńņňŋōŏőœŕŗřśŝşšţťŧũūŭůűųŵŷÿźżžsɓƃƅɔƈɖɗƌǝəɛƒɠɣɩɨƙɯɲɵơƣƥʀƨʃƭʈưʊʋƴƶʒƹƽǆǆǉǉǌǌǎǐǒǔǖǘǚǜǟǡǣǥǧǩǫǭǯǳǳǵƕƿǹǻǽǿȁȃȅȇȉȋȍȏȑȓȕȗșțȝȟƞȣȥȧȩȫȭȯȱȳⱥȼƚⱦɂƀʉʌɇɉɋɍɏιͱͳͷϳάέήίόύώαβγδεζηθικλμνξοπρστυφχψωϊϋσϗβθφπϙϛϝϟϡϣϥϧϩϫϭϯκρθεϸϲϻͻͼͽѐёђѓєѕіїјљњћќѝўџабвгдежзийклмнопрстуфхцчшщъыьэюяѡѣѥѧѩѫѭѯѱѳѵѷѹѻѽѿҁҋҍҏґғҕҗҙқҝҟҡңҥҧҩҫҭүұҳҵҷҹһҽҿӏӂӄӆӈӊӌӎӑӓӕӗәӛӝӟӡӣӥӧөӫӭӯӱӳӵӷӹӻӽӿԁԃԅԇԉԋԍԏԑԓԕԗԙԛԝԟԡԣԥԧԩԫԭԯաբգդեզէըթժիլխծկհձղճմյնշոչպջռսվտրցւփքօֆⴀⴁⴂⴃⴄⴅⴆⴇⴈⴉⴊⴋⴌⴍⴎⴏⴐⴑⴒⴓⴔⴕⴖⴗⴘⴙⴚⴛⴜⴝⴞⴟⴠⴡⴢⴣⴤⴥⴧⴭᏰᏱᏲᏳᏴᏵвдосттъѣꙋაბგდევზთიკლმნოპჟრსტუფქღყშჩცძწჭხჯჰჱჲჳჴჵჶჷჸჹჺჽჾჿḁḃḅḇḉḋḍḏḑḓḕḗḙḛḝḟḡḣḥḧḩḫḭḯḱḳḵḷḹḻḽḿṁṃṅṇṉṋṍṏṑṓṕṗṙṛṝṟṡṣṥṧṩṫṭṯṱṳṵṷṹṻṽṿẁẃẅẇẉẋẍẏẑẓẕṡạảấầẩẫậắằẳẵặẹẻẽếềểễệỉịọỏốồổỗộớờởỡợụủứừửữựỳỵỷỹỻỽỿἀἁἂἃἄἅἆἇἐἑἒἓἔἕἠἡἢἣἤἥἦἧἰἱἲἳἴἵἶἷὀὁὂὃὄὅὑὓὕὗὠὡὢὣὤὥὦὧᾰᾱὰάιὲέὴήῐῑὶίῠῡὺύῥὸόὼώωkåⅎⅰⅱⅲⅳⅴⅵⅶⅷⅸⅹⅺⅻⅼⅽⅾⅿↄⓐⓑⓒⓓⓔⓕⓖⓗⓘⓙⓚⓛⓜⓝⓞⓟⓠⓡⓢⓣⓤⓥⓦⓧⓨⓩⰰⰱⰲⰳⰴⰵⰶⰷⰸⰹⰺⰻⰼⰽⰾⰿⱀⱁⱂⱃⱄⱅⱆⱇⱈⱉⱊⱋⱌⱍⱎⱏⱐⱑⱒⱓⱔⱕⱖⱗⱘⱙⱚⱛⱜⱝⱞⱟⱡɫᵽɽⱨⱪⱬɑɱɐɒⱳⱶȿɀⲁⲃⲅⲇⲉⲋⲍⲏⲑⲓⲕⲗⲙⲛⲝⲟⲡⲣⲥⲧⲩⲫⲭⲯⲱⲳⲵⲷⲹⲻⲽⲿⳁⳃⳅⳇⳉⳋⳍⳏⳑⳓⳕⳗⳙⳛⳝⳟⳡⳣⳬⳮⳳꙁꙃꙅꙇꙉꙋꙍꙏꙑꙓꙕꙗꙙꙛꙝꙟꙡꙣꙥꙧꙩꙫꙭꚁꚃꚅꚇꚉꚋꚍꚏꚑꚓꚕꚗꚙꚛꜣꜥꜧꜩꜫꜭꜯꜳꜵꜷꜹꜻꜽꜿꝁꝃꝅꝇꝉꝋꝍꝏꝑꝓꝕꝗꝙꝛꝝꝟꝡꝣꝥꝧꝩꝫꝭꝯꝺꝼᵹꝿꞁꞃꞅꞇꞌɥꞑꞓꞗꞙꞛꞝꞟꞡꞣꞥꞧꞩɦɜɡɬɪʞʇʝꭓꞵꞷꞹꞻꞽꞿꟁꟃꞔʂᶎꟈꟊꟑꟗꟙꟶᎠᎡᎢᎣᎤᎥᎦᎧᎨᎩᎪᎫᎬᎭᎮᎯᎰᎱᎲᎳᎴᎵᎶᎷᎸᎹᎺᎻᎼᎽᎾᎿᏀᏁᏂᏃᏄᏅᏆᏇᏈᏉᏊᏋᏌᏍᏎᏏᏐᏑᏒᏓᏔᏕᏖᏗᏘᏙᏚᏛᏜᏝᏞᏟᏠᏡᏢᏣᏤᏥᏦᏧᏨᏩᏪᏫᏬᏭᏮᏯａｂｃｄｅｆｇｈｉｊｋｌｍｎｏｐｑｒｓｔｕｖｗｘｙｚ𐐨𐐩𐐪𐐫𐐬𐐭𐐮𐐯𐐰𐐱𐐲𐐳𐐴𐐵𐐶𐐷𐐸𐐹𐐺𐐻𐐼𐐽𐐾𐐿𐑀𐑁𐑂𐑃𐑄𐑅𐑆𐑇𐑈𐑉𐑊𐑋𐑌𐑍𐑎𐑏𐓘𐓙𐓚𐓛𐓜𐓝𐓞𐓟𐓠𐓡𐓢𐓣𐓤𐓥𐓦𐓧𐓨𐓩𐓪𐓫𐓬𐓭𐓮𐓯𐓰𐓱𐓲𐓳𐓴𐓵𐓶𐓷𐓸𐓹𐓺𐓻𐖗𐖘𐖙𐖚𐖛𐖜𐖝𐖞𐖟𐖠𐖡𐖣𐖤𐖥𐖦𐖧𐖨𐖩𐖪𐖫𐖬𐖭𐖮𐖯𐖰𐖱𐖳𐖴𐖵𐖶𐖷𐖸𐖹𐖻𐖼𐳀𐳁𐳂𐳃𐳄𐳅𐳆𐳇𐳈𐳉𐳊𐳋𐳌𐳍𐳎𐳏𐳐𐳑𐳒𐳓𐳔𐳕𐳖𐳗𐳘𐳙𐳚𐳛𐳜𐳝𐳞𐳟𐳠𐳡𐳢𐳣𐳤𐳥𐳦𐳧𐳨𐳩𐳪𐳫𐳬𐳭𐳮𐳯𐳰𐳱𐳲𑣀𑣁𑣂𑣃𑣄𑣅𑣆𑣇𑣈𑣉𑣊𑣋𑣌𑣍𑣎𑣏𑣐𑣑𑣒𑣓𑣔𑣕𑣖𑣗𑣘𑣙𑣚𑣛𑣜𑣝𑣞𑣟𖹠𖹡𖹢𖹣𖹤𖹥𖹦𖹧𖹨𖹩𖹪𖹫𖹬𖹭𖹮𖹯𖹰𖹱𖹲𖹳𖹴𖹵𖹶𖹷𖹸𖹹𖹺𖹻𖹼𖹽𖹾𖹿𞤢𞤣𞤤𞤥𞤦𞤧𞤨𞤩𞤪𞤫𞤬𞤭𞤮𞤯𞤰𞤱𞤲𞤳𞤴𞤵𞤶𞤷𞤸𞤹𞤺𞤻𞤼𞤽𞤾𞤿𞥀𞥁𞥂𞥃');
    longer text[] := ARRAY['ß', 'ss', 'İ', 'i̇', 'ŉ', 'ʼn', 'ǰ', 'ǰ', 'ΐ', 'ΐ', 'ΰ', 'ΰ', 'և', 'եւ', 'ẖ', 'ẖ', 'ẗ', 'ẗ', 'ẘ', 'ẘ', 'ẙ', 'ẙ', 'ẚ', 'aʾ', 'ẞ', 'ss', 'ὐ', 'ὐ', 'ὒ', 'ὒ', 'ὔ', 'ὔ', 'ὖ', 'ὖ', 'ᾀ', 'ἀι', 'ᾁ', 'ἁι', 'ᾂ', 'ἂι', 'ᾃ', 'ἃι', 'ᾄ', 'ἄι', 'ᾅ', 'ἅι', 'ᾆ', 'ἆι', 'ᾇ', 'ἇι', 'ᾈ', 'ἀι', 'ᾉ', 'ἁι', 'ᾊ', 'ἂι', 'ᾋ', 'ἃι', 'ᾌ', 'ἄι', 'ᾍ', 'ἅι', 'ᾎ', 'ἆι', 'ᾏ', 'ἇι', 'ᾐ', 'ἠι', 'ᾑ', 'ἡι', 'ᾒ', 'ἢι', 'ᾓ', 'ἣι', 'ᾔ', 'ἤι', 'ᾕ', 'ἥι', 'ᾖ', 'ἦι', 'ᾗ', 'ἧι', 'ᾘ', 'ἠι', 'ᾙ', 'ἡι', 'ᾚ', 'ἢι', 'ᾛ', 'ἣι', 'ᾜ', 'ἤι', 'ᾝ', 'ἥι', 'ᾞ', 'ἦι', 'ᾟ', 'ἧι', 'ᾠ', 'ὠι', 'ᾡ', 'ὡι', 'ᾢ', 'ὢι', 'ᾣ', 'ὣι', 'ᾤ', 'ὤι', 'ᾥ', 'ὥι', 'ᾦ', 'ὦι', 'ᾧ', 'ὧι', 'ᾨ', 'ὠι', 'ᾩ', 'ὡι', 'ᾪ', 'ὢι', 'ᾫ', 'ὣι', 'ᾬ', 'ὤι', 'ᾭ', 'ὥι', 'ᾮ', 'ὦι', 'ᾯ', 'ὧι', 'ᾲ', 'ὰι', 'ᾳ', 'αι', 'ᾴ', 'άι', 'ᾶ', 'ᾶ', 'ᾷ', 'ᾶι', 'ᾼ', 'αι', 'ῂ', 'ὴι', 'ῃ', 'ηι', 'ῄ', 'ήι', 'ῆ', 'ῆ', 'ῇ', 'ῆι', 'ῌ', 'ηι', 'ῒ', 'ῒ', 'ΐ', 'ΐ', 'ῖ', 'ῖ', 'ῗ', 'ῗ', 'ῢ', 'ῢ', 'ΰ', 'ΰ', 'ῤ', 'ῤ', 'ῦ', 'ῦ', 'ῧ', 'ῧ', 'ῲ', 'ὼι', 'ῳ', 'ωι', 'ῴ', 'ώι', 'ῶ', 'ῶ', 'ῷ', 'ῶι', 'ῼ', 'ωι', 'ﬀ', 'ff', 'ﬁ', 'fi', 'ﬂ', 'fl', 'ﬃ', 'ffi', 'ﬄ', 'ffl', 'ﬅ', 'st', 'ﬆ', 'st', 'ﬓ', 'մն', 'ﬔ', 'մե', 'ﬕ', 'մի', 'ﬖ', 'վն', 'ﬗ', 'մխ'];
    n integer;
BEGIN
    IF octet_length(folded) > char_length(folded) THEN
        FOR n IN 1 .. array_length(longer, 1) / 2 LOOP
            folded := replace(folded, longer[2 * n - 1], longer[2 * n]);
        END LOOP;
    END IF;
    RETURN normalize(folded, NFKC);
END $function$
;
-- Whether a text can be a person's id.
CREATE FUNCTION nestrel.is_person_v1(id text)
 RETURNS boolean
 LANGUAGE sql
 IMMUTABLE STRICT
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
    SELECT btrim(id, E'\U00000009\U0000000a\U0000000b\U0000000c\U0000000d\U0000001c\U0000001d\U0000001e\U0000001f\U00000020\U00000085\U000000a0\U00001680\U00002000\U00002001\U00002002\U00002003\U00002004\U00002005\U00002006\U00002007\U00002008\U00002009\U0000200a\U00002028\U00002029\U0000202f\U0000205f\U00003000') <> '' AND id NOT IN ('me', 'all') AND id !~ U&'[\0001-\001f\007f-\009f]'
       AND char_length(id) + char_length(regexp_replace(id, U&'[^\+010000-\+10ffff]', '', 'g')) <= 128
$function$
;
-- JSON without the spaces between its parts.
CREATE FUNCTION nestrel.compact_v1(document text)
 RETURNS text
 LANGUAGE sql
 IMMUTABLE STRICT
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
    SELECT regexp_replace(document, '("(?:[^"\\]|\\.)*")|\s+', '\1', 'g')
$function$
;
-- What an application calls in its own transaction: it leaves a post, which is taken up once that is committed.
CREATE FUNCTION nestrel.post(conversation text, author text, key text, body text, format text DEFAULT 'plain'::text, attributes json DEFAULT NULL::json, mentions text[] DEFAULT '{}'::text[], reply_to bigint DEFAULT NULL::bigint)
 RETURNS bigint
 LANGUAGE plpgsql
 SECURITY DEFINER
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
#variable_conflict use_variable
DECLARE
    place uuid;
    named integer;
    ticket bigint;
    fault text;
BEGIN
    -- What is large is refused by its size alone, before anything goes through it.
    mentions := coalesce(mentions, '{}');
    fault := CASE
        WHEN array_length(mentions, 1) > 1000 OR array_ndims(mentions) > 1 THEN 'mentions has more than 1,000 entries'
        WHEN octet_length(conversation) > 1024 THEN 'conversation must be the id or the name of a conversation'
        WHEN octet_length(author) > 1024 THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN octet_length(key) > 1024 THEN 'key must have 1 to 128 characters'
        WHEN octet_length(body) > 32000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN octet_length(attributes::text) > 65536 THEN
            'attributes take more than 4,096 bytes; white space counts up to 65,536'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    mentions := ARRAY(SELECT m FROM unnest(mentions) WITH ORDINALITY AS u (m, n) GROUP BY m ORDER BY min(n));
    named := cardinality(mentions);
    fault := CASE
        WHEN conversation IS NULL THEN 'conversation must be the id or the name of a conversation'
        WHEN author IS NULL OR NOT nestrel.is_person_v1(author) THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN key IS NULL OR char_length(key) NOT BETWEEN 1 AND 128 THEN 'key must have 1 to 128 characters'
        WHEN body IS NULL OR btrim(body, E'\U00000009\U0000000a\U0000000b\U0000000c\U0000000d\U0000001c\U0000001d\U0000001e\U0000001f\U00000020\U00000085\U000000a0\U00001680\U00002000\U00002001\U00002002\U00002003\U00002004\U00002005\U00002006\U00002007\U00002008\U00002009\U0000200a\U00002028\U00002029\U0000202f\U0000205f\U00003000') = '' THEN 'body must not be empty or blank'
        WHEN char_length(body) > 8000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN format IS NULL OR format NOT IN ('plain', 'markdown') THEN 'format must be plain or markdown'
        WHEN attributes IS NOT NULL AND json_typeof(attributes) <> 'object' THEN 'attributes must be a JSON object'
        WHEN EXISTS (SELECT FROM unnest(mentions) m WHERE m IS NULL OR NOT nestrel.is_person_v1(m)) THEN
            'mentions must be user ids'
        WHEN named > 50 THEN 'mentions has more than 50 users'
        WHEN reply_to NOT BETWEEN 1 AND 9007199254740991 THEN 'reply_to must be the number of a message'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    IF attributes IS NOT NULL THEN
        BEGIN
            -- Too large however it is written: as it came, and as the server writes it, both without white space.
            IF least(octet_length(nestrel.compact_v1(attributes::text)),
                     octet_length(nestrel.compact_v1(attributes::jsonb::text))) > 4096 THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes take more than 4,096 bytes';
            END IF;
            IF jsonb_path_exists(attributes::jsonb, '$.**{32 to last}') THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes are nested more than 32 deep';
            END IF;
            IF jsonb_path_exists(attributes::jsonb,
                '$.** ? (@.type() == "number" && (@ > 1.7976931348623157e308 || @ < -1.7976931348623157e308))') THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes hold a number beyond what JSON readers take';
            END IF;
        EXCEPTION WHEN untranslatable_character OR invalid_text_representation OR numeric_value_out_of_range
            OR statement_too_complex THEN
            RAISE invalid_parameter_value USING
                MESSAGE = 'attributes must be JSON (RFC 8259) without the character NUL or lone surrogates';
        END;
    END IF;
    IF conversation ~* '^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$' THEN
        place := conversation::uuid;
    ELSE
        SELECT c.id INTO place FROM nestrel.conversations c
        WHERE c.name_key = nestrel.name_key_v1(conversation) AND c.closed_at IS NULL;
        IF place IS NULL THEN
            RAISE invalid_parameter_value USING MESSAGE = format('there is no conversation called %L', conversation),
                HINT = 'Name an open conversation, or give its id.';
        END IF;
    END IF;
    INSERT INTO nestrel.posts_waiting AS w
        (conversation_id, author_id, key, body, format, attributes, mentions, reply_to, posted_as)
    VALUES (place, author, key, body, format, attributes, mentions, reply_to, session_user)
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $function$
;
REVOKE ALL ON FUNCTION nestrel.post(conversation text, author text, key text, body text, format text, attributes json, mentions text[], reply_to bigint) FROM PUBLIC
;
-- A minute is over when the second of its beginning is: sixty slots of a second are a little less, and what came in the
-- first of them counted no more while it was of the last sixty seconds.
CREATE FUNCTION nestrel.take_rates_v2(policies text[], keys text[], done integer[], wanted integer[], most integer[])
 RETURNS TABLE(granted boolean, remaining integer, seconds integer)
 LANGUAGE plpgsql
AS $function$
DECLARE
    n integer;
    now bigint;
    before bigint;
    ring integer[];
    used integer;
    freed integer;
BEGIN
    FOR n IN 1..coalesce(array_length(keys, 1), 0) LOOP
        INSERT INTO nestrel.rate_counts (policy, key, at, slots)
        VALUES (policies[n], keys[n], 0, array_fill(0, ARRAY[61])) ON CONFLICT DO NOTHING;
        SELECT r.at, r.slots INTO before, ring FROM nestrel.rate_counts r
        WHERE r.policy = policies[n] AND r.key = keys[n] FOR NO KEY UPDATE;
        now := greatest(floor(extract(epoch FROM clock_timestamp()))::bigint, before);
        IF now - before >= 61 THEN
            ring := array_fill(0, ARRAY[61]);
        ELSE
            FOR past IN 1..(now - before)::integer LOOP
                ring[(before + past) % 61 + 1] := 0;
            END LOOP;
        END IF;
        SELECT sum(x) INTO used FROM unnest(ring) x;
        used := used + done[n];
        granted := used + wanted[n] <= most[n];
        IF granted THEN
            used := used + wanted[n];
        END IF;
        ring[now % 61 + 1] := ring[now % 61 + 1] + done[n] + CASE WHEN granted THEN wanted[n] ELSE 0 END;
        IF done[n] > 0 OR granted THEN
            UPDATE nestrel.rate_counts r SET at = now, slots = ring WHERE r.policy = policies[n] AND r.key = keys[n];
        END IF;
        remaining := greatest(most[n] - used, 0);
        seconds := 60;
        freed := 0;
        IF NOT granted THEN
            FOR ahead IN 1..61 LOOP
                freed := freed + ring[(now + ahead) % 61 + 1];
                IF used - freed + wanted[n] <= most[n] THEN
                    seconds := least(ahead, 60);
                    EXIT;
                END IF;
            END LOOP;
        END IF;
        RETURN NEXT;
    END LOOP;
END $function$
;
-- Whoever serves can add reasons and change none, but those of somebody who is being erased.
CREATE FUNCTION nestrel.forget_reasons_v1(erased text)
 RETURNS bigint
 LANGUAGE plpgsql
 SECURITY DEFINER
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
DECLARE
    gone bigint;
BEGIN
    IF NOT EXISTS (SELECT FROM nestrel.erasures e WHERE e.user_id = erased) THEN
        RAISE EXCEPTION 'no erasure of that person is written down' USING ERRCODE = 'insufficient_privilege';
    END IF;
    DELETE FROM nestrel.audit_reasons r WHERE r.user_id = erased
        OR r.audit_id IN (SELECT a.audit_id FROM nestrel.audit a WHERE a.actor = erased);
    GET DIAGNOSTICS gone = ROW_COUNT;
    RETURN gone;
END $function$
;
REVOKE ALL ON FUNCTION nestrel.forget_reasons_v1(erased text) FROM PUBLIC
;
-- Whoever serves may add rows and change none: this counts in its name, in the hour that the database has now.
CREATE FUNCTION nestrel.audit_count_v1(ids uuid[], actors text[], acts text[], conversations uuid[], users text[], seqs bigint[], requests text[])
 RETURNS bigint
 LANGUAGE plpgsql
 SECURITY DEFINER
 SET search_path TO 'pg_catalog', 'pg_temp'
AS $function$
DECLARE
    this_hour timestamptz := date_trunc('hour', clock_timestamp(), 'UTC');
BEGIN
    INSERT INTO nestrel.audit AS a (audit_id, at, actor, act, conversation_id, user_id, seq, request_id, times, hourly)
    SELECT (array_agg(d.id ORDER BY d.n))[1], this_hour, d.actor, d.act, d.conversation_id, d.user_id, max(d.seq),
           (array_agg(d.request_id ORDER BY d.n DESC))[1], count(*), true
    FROM unnest(ids, actors, acts, conversations, users, seqs, requests) WITH ORDINALITY
        AS d (id, actor, act, conversation_id, user_id, seq, request_id, n)
    WHERE d.act IN ('posted-for', 'uploaded-for')
    GROUP BY d.actor, d.act, d.conversation_id, d.user_id
    ORDER BY d.conversation_id, d.user_id, d.actor
    ON CONFLICT (at, actor, act, conversation_id, user_id) WHERE hourly DO UPDATE
    SET times = a.times + excluded.times, seq = greatest(a.seq, excluded.seq), request_id = excluded.request_id;
    RETURN cardinality(ids);
END $function$
;
REVOKE ALL ON FUNCTION nestrel.audit_count_v1(ids uuid[], actors text[], acts text[], conversations uuid[], users text[], seqs bigint[], requests text[]) FROM PUBLIC
;
CREATE TRIGGER journal_made AFTER INSERT ON nestrel.conversations REFERENCING NEW TABLE AS moved FOR EACH STATEMENT EXECUTE FUNCTION nestrel.journal_v1()
;
CREATE TRIGGER journal_moved AFTER UPDATE ON nestrel.conversations REFERENCING NEW TABLE AS moved FOR EACH STATEMENT EXECUTE FUNCTION nestrel.journal_v1()
;
CREATE TRIGGER guard BEFORE UPDATE ON nestrel.conversations FOR EACH ROW WHEN ((old.rev = new.rev)) EXECUTE FUNCTION nestrel.guard_v1()
;
CREATE TRIGGER audit_stays BEFORE DELETE OR UPDATE ON nestrel.audit FOR EACH ROW EXECUTE FUNCTION nestrel.audit_stays_v1()
;
COMMENT ON FUNCTION nestrel.before_v1(timestamptz, interval) IS 'The moment so far back, on the calendar of UTC.'
;
COMMENT ON FUNCTION nestrel.floor_v1(uuid, bigint, bigint, timestamptz) IS 'The lowest seq from floor up that was written after the cutoff; head + 1 if none.'
;
COMMENT ON FUNCTION nestrel.seen_v1(uuid, pg_snapshot, int) IS 'A place at or before what a snapshot saw of a conversation; beyond: more than most rows were not seen.'
;
COMMENT ON FUNCTION nestrel.seq_at_v1(uuid, timestamptz) IS 'The lowest kept seq written at or after the moment; head + 1 if none.'

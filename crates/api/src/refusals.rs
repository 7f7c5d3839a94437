//! Every refusal there is: its code, its status, its title, and what helps where nothing better can be said.

/// A kind of refusal. Programs go by its code, which stays.
pub struct Kind {
    /// The word that programs go by.
    pub code: &'static str,
    /// The status of an answer that carries it.
    pub status: u16,
    /// What it is, in a few words.
    pub title: &'static str,
    /// What helps, as a rule.
    pub remedy: &'static str,
}

macro_rules! refusals {
    ($($name:ident $status:literal $code:literal $title:literal $remedy:literal;)*) => {
        $(
            #[doc = $title]
            pub const $name: Kind = Kind { code: $code, status: $status, title: $title, remedy: $remedy };
        )*
        /// All of them.
        pub const ALL: &[Kind] = &[$($name),*];
    };
}

refusals! {
    ADDRESS_HAS_FRAGMENT 400 "address_has_fragment" "The request is malformed"
        "Leave out # and what follows, or send # as %23.";
    AUTHORIZATION_PENDING 400 "authorization_pending" "Nobody has answered yet"
        "Ask again after the interval.";
    BAD_INPUT 400 "bad_input" "Refused"
        "Correct it and send it again.";
    BODY_CUT_SHORT 400 "body_cut_short" "The body was cut short"
        "Send the whole file again; nothing was kept.";
    CHECKSUM_MALFORMED 400 "checksum_malformed" "The request is malformed"
        "Send sha1, sha256 or sha512, a blank, and the checksum in Base64.";
    COLUMNS_MALFORMED 400 "columns_malformed" "The request is malformed"
        "Write {\"HEADING\": \"COLUMN\"}.";
    CONDITION_MALFORMED 400 "condition_malformed" "The request is malformed"
        "Send an ETag as it was given, with its quotes, or *.";
    CURSOR_MALFORMED 400 "cursor_malformed" "The cursor is malformed"
        "Take it unchanged from the page before.";
    CURSOR_OF_ANOTHER_LIST 400 "cursor_of_another_list" "The cursor belongs to another list"
        "Keep folder, sort, order and moment the same from page to page.";
    DAYS_CANNOT_BE 400 "days_cannot_be" "The request is malformed"
        "Choose 1 to 3650 days: so long it can be undone.";
    DELTA_MALFORMED 400 "delta_malformed" "The request is malformed"
        "Write it as docs/protocol.md has it.";
    DEVICE_NAME_CANNOT_BE 400 "device_name_cannot_be" "The request is malformed"
        "Give it a name of 1 to 100 characters.";
    DIGEST_MALFORMED 400 "digest_malformed" "The request is malformed"
        "Send it as RFC 9530 has it: sha-256=:Base64:.";
    DOOR_UNKNOWN 400 "door_unknown" "The request is malformed"
        "";
    ENDING_CANNOT_BE 400 "ending_cannot_be" "The ending cannot be"
        "Choose 3 to 64 small letters, digits and single hyphens, or leave it out for a random one.";
    EXPIRED_TOKEN 400 "expired_token" "The code is over"
        "Begin again.";
    GROUP_SPELLED_OTHERWISE 400 "group_spelled_otherwise" "The request is malformed"
        "Write it as it is written there.";
    HASH_MALFORMED 400 "hash_malformed" "The request is malformed"
        "Send 64 hexadecimal digits.";
    HEADER_MALFORMED 400 "header_malformed" "The request is malformed"
        "Send a number of bytes.";
    HEIR_CANNOT_BE 400 "heir_cannot_be" "The request is malformed"
        "Name another account.";
    KEEP_MALFORMED 400 "keep_malformed" "The request is malformed"
        "Write ids with commas between.";
    KIND_UNKNOWN 400 "kind_unknown" "No such kind"
        "Choose pictures, documents, sound, video, archives, or endings such as .pdf.";
    LETTER_UNKNOWN 400 "letter_unknown" "The request is malformed"
        "There are: given, computer, look.";
    LEVEL_CANNOT_BE 400 "level_cannot_be" "The request is malformed"
        "Choose one of these; whoever is to manage needs an account of a member.";
    LEVEL_UNKNOWN 400 "level_unknown" "The request is malformed"
        "Choose view, add, edit, manage or deny.";
    LIST_UNREADABLE 400 "list_unreadable" "The request is malformed"
        "Send CSV in UTF-8 whose first line names the columns: sign_in, display_name, mail, groups, quota, role.";
    MAIL_MALFORMED 400 "mail_malformed" "The request is malformed"
        "Write it like name@example.org.";
    MAIL_NEEDED 400 "mail_needed" "The request is malformed"
        "Write it like name@example.org.";
    MESSAGE_TOO_LONG 400 "message_too_long" "The request is malformed"
        "Shorten it.";
    MOMENT_MALFORMED 400 "moment_malformed" "The request is malformed"
        "Send the id of the last event, or leave it out.";
    MORE_THAN_ANNOUNCED 400 "more_than_announced" "More bytes than announced"
        "Ask how far the upload is, and go on from there; or begin another one with the right length.";
    NAME_CANNOT_BE 400 "name_cannot_be" "The request is malformed"
        "Use 1 to 60 characters.";
    NAME_DOES_NOT_MATCH 400 "name_does_not_match" "The request is malformed"
        "Type the sign-in name of the account that goes.";
    NOTHING_CHOSEN 400 "nothing_chosen" "The request is malformed"
        "Name at least one in nodes.";
    NOTHING_NAMED 400 "nothing_named" "The request is malformed"
        "Name removed things (nodes), a folder, a version of one node, or by_rules.";
    NOTHING_TO_CHANGE 400 "nothing_to_change" "The request is malformed"
        "Say end, paused or ends.";
    NOT_A_DEVICE 400 "not_a_device" "The request is malformed"
        "Name the computer instead.";
    NO_PASSKEY 400 "no_passkey" "The request is malformed"
        "Use another second factor.";
    NO_SECOND_FACTOR_GIVEN 400 "no_second_factor_given" "The request is malformed"
        "Give one of them.";
    NO_SUCH_MOMENT 400 "no_such_moment" "No such moment"
        "Take a moment from a history or from the strip.";
    PART_CUT_SHORT 400 "part_cut_short" "The part was cut short"
        "What arrived is kept: ask how far the upload is, and go on from there.";
    PASSKEY_MALFORMED 400 "passkey_malformed" "The request is malformed"
        "Send what the browser answered.";
    PASSWORD_REFUSED 400 "password_refused" "The request is malformed"
        "";
    PAST_BY_NAME 400 "past_by_name" "The request is malformed"
        "Leave out sort and order.";
    PAST_WITHIN 400 "past_within" "The request is malformed"
        "Say within which one: a shelf's top will do.";
    PICTURE_UNREADABLE 400 "picture_unreadable" "The request is malformed"
        "Send a PNG, JPEG, GIF, WebP, BMP or TIFF.";
    QUOTA_OF_NOTHING 400 "quota_of_nothing" "The request is malformed"
        "Write organisation, home:NAME, shelf:NAME, or a folder such as Plans:/Hall.";
    RECIPIENTS 400 "recipients" "The request is malformed"
        "Name them in to.";
    TOO_MANY_FOLDERS 400 "too_many_folders" "The request is malformed"
        "Choose fewer folders, or one above them.";
    TOO_MANY_STATES 400 "too_many_states" "The request is malformed"
        "Ask for some of them, and for the others after that.";
    TOO_MANY_MOVES 400 "too_many_moves" "The request is malformed"
        "Send them in several requests.";
    REPORT_TOO_LONG 400 "report_too_long" "The request is malformed"
        "Tell of fewer pairs, in shorter words.";
    ROLE_UNKNOWN 400 "role_unknown" "The request is malformed"
        "Choose administrator, member or guest.";
    SCOPE_MALFORMED 400 "scope_malformed" "The request is malformed"
        "Write service, organisation, group:NAME or shelf:NAME.";
    SENDER_MALFORMED 400 "sender_malformed" "The request is malformed"
        "Say who hands this in.";
    SHELF_NAME_CANNOT_BE 400 "shelf_name_cannot_be" "The request is malformed"
        "Choose another name: it stands before the colon in paths.";
    SIGN_IN_NAME_CANNOT_BE 400 "sign_in_name_cannot_be" "The request is malformed"
        "Use 1 to 64 of a-z, 0-9, \".\", \"-\", \"_\", beginning with a letter or digit.";
    SIGN_IN_NAME_TOO_LONG 400 "sign_in_name_too_long" "The request is malformed"
        "Check it.";
    SIZE_MALFORMED 400 "size_malformed" "The request is malformed"
        "Write it like 20 GiB or 500 MiB, or none.";
    SLOW_DOWN 400 "slow_down" "Asked too soon"
        "Wait for the interval before asking again.";
    SOFT_ABOVE_HARD 400 "soft_above_hard" "The request is malformed"
        "Choose a soft line below the hard one.";
    SUBJECT_MALFORMED 400 "subject_malformed" "The request is malformed"
        "Write account:NAME, group:NAME or everyone.";
    TIME_MALFORMED 400 "time_malformed" "The request is malformed"
        "Write it like 2026-11-02T16:20:00Z.";
    TOO_LONG_FOR_A_CODE 400 "too_long_for_a_code" "The request is malformed"
        "Copy it instead.";
    UNKNOWN_STATE 400 "unknown_state" "The request is malformed"
        "";
    UPLOAD_HAS_NO_PLACE 400 "upload_has_no_place" "The request is malformed"
        "Send parent (a folder's id) and filename, or path.";
    WORD_UNKNOWN 400 "word_unknown" "The request is malformed"
        "Choose leave, shorten or end.";
    BROWSER_LEFT_ALONE 401 "browser_left_alone" "Signed out"
        "Sign in again.";
    DEVICE_AWAY 401 "device_away" "This computer was away too long"
        "Connect it again with yattic connect; its files and pairs stay as they are.";
    NOT_SIGNED_IN 401 "not_signed_in" "Not signed in"
        "Sign in with your sign-in name and your password. Where a second factor is set or demanded, give a device's token in the place of the password: connect a computer with yattic connect.";
    SECOND_FACTOR_NEEDED 401 "second_factor_needed" "A second factor is needed"
        "Give a code of the authenticator, use the passkey, or give a recovery code.";
    WRONG_CODE 401 "wrong_code" "Wrong code"
        "Take the code of the entry that was just added, and see that the clock of the device is right.";
    WRONG_PASSKEY 401 "wrong_passkey" "The passkey is not taken"
        "Use the passkey that was set up for this account, or another second factor.";
    WRONG_SIGN_IN 401 "wrong_sign_in" "Wrong sign-in"
        "Check both; capital letters count in the password.";
    ACCOUNT_DISABLED 403 "account_disabled" "The account is disabled"
        "Ask an administrator to enable it.";
    ADMINISTRATORS_ONLY 403 "administrators_only" "Not allowed"
        "Ask an administrator, or set metrics_listen for an address of its own.";
    CANNOT_LOOK_AS 403 "cannot_look_as" "Not as this account"
        "Choose somebody else; for a disabled account ask yattic why.";
    COUNTED 403 "counted" "Downloads are counted here"
        "Download it.";
    SHELF_NOT_SYNCED 403 "shelf_not_synced" "This shelf is not kept the same on computers"
        "Work with it in the browser or by single commands, or ask an administrator about the rule sync-closed.";
    DOOR_CLOSED 403 "door_closed" "This door is closed"
        "Ask an administrator to open it, or use another way in.";
    FACTOR_NEEDED 403 "factor_needed" "Your second factor is needed once more"
        "Give your password with a code, a recovery code or a passkey (POST /api/v1/proof), then do it again.";
    GUESTS_NOT_INVITED 403 "guests_not_invited" "Guests may not be invited"
        "Ask an administrator.";
    HOLDS_OTHERS 403 "holds_others" "It contains things that you may not change"
        "Ask somebody who manages the shelf, or move what you may change.";
    LOOKING_ONLY 403 "looking_only" "Looking only"
        "End the look, and do it as yourself.";
    NOT_ALLOWED 403 "not_allowed" "Not allowed"
        "";
    NOT_TO_ADD_TO 403 "not_to_add_to" "Not allowed"
        "Ask whoever gave it to you.";
    NOT_WITH_A_DEVICE_TOKEN 403 "not_with_a_device_token" "Not allowed"
        "Sign in to the console and do it there.";
    ACCESS_DENIED 403 "access_denied" "It was not connected"
        "Begin again, if that was a mistake.";
    OUTSIDE_ITS_REACH 403 "outside_its_reach" "This computer may not do this"
        "Do it in the console, or connect the computer again with a wider reach.";
    NOT_YET 403 "not_yet" "Not yet open"
        "Come back then.";
    NO_SERVICE_WORKER 403 "no_service_worker" "Not allowed"
        "Load it as a file.";
    ONLY_TO_CLOSE 403 "only_to_close" "Not allowed"
        "Ask its maker for anything else.";
    OPENING_REFUSED 403 "opening_refused" "Not allowed"
        "Ask an administrator about the rule or the door.";
    OPENING_TOO_LONG 403 "opening_too_long" "It would live too long"
        "";
    OTHER_ORIGIN 403 "other_origin" "Not from our own pages"
        "Open the console under its public address; set public_address if that is not known to the service.";
    PASSWORD_ASKED 403 "password_asked" "A password is asked for"
        "Open it in a browser, or send the password to its address with /enter.";
    PAUSED 403 "paused" "Closed for now"
        "Come back later, or ask whoever gave it to you.";
    PROOF_NEEDED 403 "proof_needed" "Your password is needed once more"
        "Give your password (POST /api/v1/proof), then do it again.";
    SECOND_FACTOR_DEMANDED 403 "second_factor_demanded" "A second factor is demanded"
        "Sign in to the console and set one up under your account, then connect again.";
    SET_UP_CODE_WRONG 403 "set_up_code_wrong" "The set-up address is not valid"
        "Take the address that the service printed at its last start.";
    SHUT_OUT 403 "shut_out" "Shut out by an alarm"
        "Look for malware on this computer first; tell the administrator, who sees it on the desk and can roll the files back.";
    SIGN_UP_CLOSED 403 "sign_up_closed" "No sign-up"
        "Ask an administrator for an account.";
    SLIP_NEEDED 403 "slip_needed" "Take it from its page"
        "Open the page, and choose Download there.";
    THE_TARGET_ITSELF 403 "the_target_itself" "Not allowed"
        "Ask whoever gave it to you.";
    VIEW_ONLY 403 "view_only" "For looking only"
        "Ask whoever gave it to you.";
    WIDENS 403 "widens" "More people would see it"
        "Ask somebody who manages it to move it, or put a copy there.";
    WRONG_PASSWORD 403 "wrong_password" "Wrong password"
        "Check it; capital letters count. Or ask whoever gave you the address.";
    CODE_UNKNOWN 404 "code_unknown" "No computer waits"
        "See that the code is the one on the computer's screen, or begin again there.";
    INVITATION_UNKNOWN 404 "invitation_unknown" "The address is not valid"
        "See that it was copied whole, or ask an administrator for a new one.";
    NOBODY 404 "nobody" "Nobody of that name"
        "Look it up in the list of people and groups.";
    NOBODY_WAITS 404 "nobody_waits" "Nobody of that name has to wait"
        "List who does: yattic door slowed.";
    NOT_FOUND 404 "not_found" "Not found"
        "";
    NO_SUCH_ADDRESS 404 "no_such_address" "Nothing here"
        "Check it, or ask whoever gave it to you.";
    NO_SUCH_DELIVERY 404 "no_such_delivery" "No such delivery"
        "Open the page again, and begin another one.";
    NO_SUCH_JOB 404 "no_such_job" "No such job runs"
        "List them: yattic job.";
    NO_SUCH_ROUTE 404 "no_such_route" "No such address"
        "";
    NO_SUCH_RULE 404 "no_such_rule" "No such rule"
        "";
    NO_THUMBNAIL 404 "no_thumbnail" "No thumbnail"
        "Download it to look at it.";
    METHOD_NOT_ALLOWED 405 "method_not_allowed" "Not by this method"
        "Use one of these.";
    DELIVERY_DONE 409 "delivery_done" "The delivery is done"
        "Begin another one for what is still missing.";
    ENDING_TAKEN 409 "ending_taken" "The ending is taken"
        "Choose another one. The ending of something that was ended stays taken for ninety days.";
    EXISTS 409 "exists" "There already"
        "Choose another name.";
    FOLDER_IN_THE_WAY 409 "folder_in_the_way" "A folder is in the way"
        "Choose another name, or move the folder.";
    INTO_ITSELF 409 "into_itself" "Into itself"
        "Choose a folder outside of it.";
    JOB_RUNS 409 "job_runs" "It runs already"
        "Wait until it has ended, or stop it: yattic job.";
    KEPT 409 "kept" "It is kept"
        "End the snapshot, take the name away, or change the rule first.";
    LAST_ADMINISTRATOR 409 "last_administrator" "The last administrator"
        "Make somebody else an administrator first.";
    LENGTH_KNOWN 409 "length_known" "Another length was said"
        "Send the rest of it with the length that was said, or begin another upload.";
    LETTING_GO 409 "letting_go" "It runs already"
        "Wait until it is done.";
    LOCKS_EVERYBODY_OUT 409 "locks_everybody_out" "Nobody could open it again"
        "Leave the console open to at least one administrator.";
    NO_BACKUP_SET 409 "no_backup_set" "No folder for backups"
        "Name one in the service's configuration: backup_to.";
    NAME_TAKEN 409 "name_taken" "The name is taken"
        "Choose another name, or move what is there.";
    NAME_UNUSABLE 409 "name_unusable" "The name cannot be used here"
        "Choose another name.";
    NEWER_STATE 409 "newer_state" "Somebody has changed it"
        "Look at its present state first; restoring keeps that as a version too.";
    NOTHING_DELIVERED 409 "nothing_delivered" "Nothing has arrived yet"
        "Send at least one file first.";
    NOT_A_FILE 409 "not_a_file" "Not a file"
        "Name a file in the folder instead.";
    NOT_A_FOLDER 409 "not_a_folder" "Not a folder"
        "Only folders hold files; name the folder instead.";
    NOT_A_PLAIN_FILE 409 "not_a_plain_file" "Not a plain file"
        "Replace the link or device on the disk by a file; the service follows no links.";
    NOT_THERE_YET 409 "not_there_yet" "It was not there yet"
        "Choose a later moment, or roll back the folder above it.";
    NO_MAIL_SERVER 409 "no_mail_server" "No mail server"
        "Copy the address, and send it yourself.";
    PASSKEYS_NEED_A_NAME 409 "passkeys_need_a_name" "No passkeys under this address"
        "Open the console under its public address; set public_address if there is none.";
    PATH_TOO_DEEP 409 "path_too_deep" "Too deep"
        "Choose a place nearer to the top.";
    PLACE_GONE 409 "place_gone" "Its place is gone"
        "Bring the folder back first, or choose another folder for it.";
    PLAN_STALE 409 "plan_stale" "Something has changed"
        "Nothing was done. Look at the preview again, and decide anew.";
    ROLLING_BACK 409 "rolling_back" "A rollback runs"
        "Wait until it is done, or stop it.";
    RULE_REFUSED 409 "rule_refused" "The rule cannot be set so"
        "";
    SHELF_TOP 409 "shelf_top" "The top of a shelf stays"
        "Work with the files and folders on the shelf.";
    STILL_HERE 409 "still_here" "It is still here"
        "Choose the moment whose state is wanted.";
    TOO_MANY_FACTORS 409 "too_many_factors" "Too many second factors"
        "Remove one that is not used any more.";
    UPLOAD_UNFINISHED 409 "upload_unfinished" "Bytes are missing"
        "Go on with it first.";
    WRONG_OFFSET 409 "wrong_offset" "Another offset"
        "Ask how far the upload is (HEAD), and go on from there.";
    BYTES_MISSING 410 "bytes_missing" "The bytes are missing"
        "Another program removed them from the disk. Put them back there, or restore an earlier state.";
    NOT_HELD 410 "not_held" "No longer held"
        "Its bytes went by a rule or by hand and cannot come back; choose another version or snapshot.";
    OVER 410 "over" "No longer open"
        "Ask whoever gave it to you.";
    FORGOTTEN 410 "forgotten" "Too long ago"
        "List the folder anew and compare it with what you have: nothing is gone that the list does not leave out.";
    OTHER_TIMELINE 410 "other_timeline" "Another timeline"
        "Ids and moments that you know mean other things here: compare by paths and contents, and remove nothing.";
    SLIP_OVER 410 "slip_over" "This download is over"
        "Open the page of the link, and download it again.";
    TICKET_OVER 410 "ticket_over" "That is over"
        "Begin again.";
    USED_UP 410 "used_up" "Used up"
        "Ask whoever gave you this address to allow more.";
    BASE_CHANGED 412 "base_changed" "Changed meanwhile"
        "Ask for its chunks again, and make the delta anew.";
    CHANGED_MEANWHILE 412 "changed_meanwhile" "Changed meanwhile"
        "Look at its present state, then send the change again with the new ETag.";
    TUS_VERSION 412 "tus_version" "Another version of the protocol"
        "Send Tus-Resumable: 1.0.0.";
    ARCHIVE_TOO_LARGE 413 "archive_too_large" "Too many files"
        "Take its folders one by one, or use yattic get.";
    BODY_TOO_LARGE 413 "body_too_large" "Too large"
        "Send less at a time.";
    DELIVERY_TOO_LARGE 413 "delivery_too_large" "More than is taken"
        "Leave some out, or hand them in as another delivery.";
    FILE_TOO_LARGE 413 "file_too_large" "The file is too large"
        "Ask the administrator to raise largest_file, or send a smaller file.";
    LIST_TOO_LARGE 413 "list_too_large" "The list is too large"
        "Send it in parts.";
    PICTURE_TOO_LARGE 413 "picture_too_large" "The picture is too large"
        "Send a smaller one.";
    CONTENT_TYPE 415 "content_type" "Another kind of body"
        "Send the part's bytes with that Content-Type.";
    KIND_LIES 415 "kind_lies" "Not what its name says"
        "Nothing of it was kept. Send it under the name that fits what it is.";
    KIND_NOT_TAKEN 415 "kind_not_taken" "Another kind of file"
        "Send one of the kinds that are taken.";
    NO_TEXT 415 "no_text" "Not a text"
        "Look at both versions side by side, or download them.";
    WRONG_MEDIA_TYPE 415 "wrong_media_type" "Not of this kind"
        "Send it with Content-Type: application/json.";
    RANGE_OUTSIDE 416 "range_outside" "No such range"
        "Ask without a range, or for one that begins earlier.";
    OTHER_ADDRESS 421 "other_address" "Not under this address"
        "Use public_address, or have the administrator add the name to addresses in the configuration.";
    TAR_NOT_A_FILE 422 "tar_not_a_file" "Not a file"
        "Only files and folders are kept; send what it points to instead.";
    WRONG_HASH 422 "wrong_hash" "Other bytes than announced"
        "They were dropped. Send the file again; it may have changed while it was read.";
    LOCKED 423 "locked" "It is locked"
        "";
    TAKEN_OVER 423 "taken_over" "Another request goes on with it"
        "Let that one finish, or ask how far the upload is and go on from there.";
    TOO_MANY_ATTEMPTS 429 "too_many_attempts" "Too many attempts"
        "Wait, then try again; nothing is locked.";
    TOO_MANY_UPLOADS 429 "too_many_uploads" "Too many unfinished uploads"
        "Finish or end some of them; those left alone end by themselves after three days.";
    CHECKSUM_MISMATCH 460 "checksum_mismatch" "Other bytes than announced"
        "Send the part again, from the same offset.";
    BYTES_UNREADABLE 500 "bytes_unreadable" "The bytes cannot be read"
        "See that the service's user may read the file, and that the disk is sound.";
    INTERNAL 500 "internal" "The service failed"
        "Look at the present state before sending it again; the reason is in the service's log.";
    ROW_DAMAGED 500 "row_damaged" "The catalogue is damaged here"
        "Nothing was changed. The administrator finds it on the desk; bring the catalogue back from a backup.";
    NO_STORE 500 "no_store" "The store cannot be opened"
        "Tell the administrator.";
    BUSY 503 "busy" "Under way"
        "Try again in a moment.";
    DISK_READ_ONLY 503 "disk_read_only" "The disk is read-only"
        "Mount it writable; the service goes on by itself.";
    SECRETS_KEY_MISSING 503 "secrets_key_missing" "Second factors cannot be checked"
        "Use a recovery code, or tell the administrator, who puts the key back: the desk says where.";
    SHELF_MISSING 503 "shelf_missing" "A shelf's folder is missing"
        "Nothing is lost by waiting: tell the administrator, who mounts its disk or puts the folder back. Other shelves go on.";
    SHELF_STOPPED 503 "shelf_stopped" "A shelf takes no writes"
        "Tell the administrator, who sees on the desk what it is; the service tries again by itself. Other shelves go on.";
    SIGN_INS_WAITING 503 "sign_ins_waiting" "Too many sign-ins at once"
        "Try again in a few seconds.";
    STOPPING 503 "stopping" "The service is stopping"
        "Send it again when the service is back.";
    TOO_MANY_AT_ONCE 503 "too_many_at_once" "Too many at once"
        "Wait until some of them are done, then ask again.";
    WRITES_STOPPED 503 "writes_stopped" "Writing is stopped"
        "Reading goes on. Remove the cause; the service goes on by itself.";
    DISK_FULL 507 "disk_full" "The disk is full"
        "Make room on the disk, then send it again.";
    QUOTA_FULL 507 "quota_full" "The shelf is full"
        "Remove something there, or ask an administrator for a larger quota.";
    TOO_MUCH_ANNOUNCED 507 "too_much_announced" "Too much is announced"
        "Go on with one of them first, or end those that are not needed any more (Devices; yattic device uploads).";
}

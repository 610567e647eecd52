//! The tables, as the migrations leave them.

diesel::table! {
    installation (id) {
        id -> Text,
        created -> BigInt,
        first_code_hash -> Nullable<Binary>,
        escrow_key -> Nullable<Binary>,
        escrow_since -> Nullable<BigInt>,
        new_backups -> Text,
        paused_until -> Nullable<BigInt>,
        restores_stopped -> Bool,
        important_change -> Nullable<BigInt>,
        announcing -> Bool,
        announced_as -> Nullable<Text>,
        announced_on -> Text,
        units -> Text,
        runs_at_once -> Nullable<BigInt>,
        own_machines -> Bool,
    }
}

diesel::table! {
    accounts (id) {
        id -> Text,
        login -> Text,
        login_key -> Text,
        display_name -> Text,
        role -> Text,
        password -> Nullable<Binary>,
        created -> BigInt,
        quota -> Nullable<BigInt>,
        kind -> Text,
        disabled -> Nullable<BigInt>,
        disabled_by -> Nullable<Text>,
        removed -> Nullable<BigInt>,
        totp -> Nullable<Binary>,
        totp_since -> Nullable<BigInt>,
        totp_step -> BigInt,
    }
}

diesel::table! {
    groups (id) {
        id -> Text,
        name -> Text,
        name_key -> Text,
        default_limit -> Nullable<BigInt>,
        default_quota -> Nullable<BigInt>,
        schedule -> Text,
    }
}

diesel::table! {
    spare_codes (account_id, code_hash) {
        account_id -> Text,
        code_hash -> Binary,
    }
}

diesel::table! {
    dismissed (step) {
        step -> Text,
        why -> Text,
        by -> Text,
        at -> BigInt,
    }
}

diesel::table! {
    destination_groups (destination_id, group_id) {
        destination_id -> Text,
        group_id -> Text,
    }
}

diesel::table! {
    destination_accounts (destination_id, account_id) {
        destination_id -> Text,
        account_id -> Text,
    }
}

diesel::table! {
    group_members (group_id, account_id) {
        group_id -> Text,
        account_id -> Text,
    }
}

diesel::table! {
    destinations (id) {
        id -> Text,
        name -> Text,
        name_key -> Text,
        directory -> Text,
        capacity -> Nullable<BigInt>,
        reserve -> BigInt,
        created -> BigInt,
        retention -> Text,
        at_limit -> Text,
        waiting_days -> BigInt,
        scrub_days -> BigInt,
        granted_to -> Text,
        description -> Text,
        default_limit -> Nullable<BigInt>,
        withdrawn -> Nullable<BigInt>,
        withdrawn_by -> Nullable<Text>,
        missing_since -> Nullable<BigInt>,
        erase_asked -> Nullable<Text>,
        erases -> Nullable<BigInt>,
        erasing_by -> Nullable<Text>,
        gone -> Nullable<BigInt>,
        records_backed_up -> Nullable<BigInt>,
        records_backup_trouble -> Nullable<Text>,
        encryption -> Text,
        protected_days -> BigInt,
        shortened -> Nullable<BigInt>,
        shortened_how -> Nullable<Text>,
        schedule -> Text,
    }
}

diesel::table! {
    earlier_terms (id) {
        id -> Integer,
        store_id -> Text,
        retention -> Text,
        protected_days -> BigInt,
        at_limit -> Text,
        ended -> BigInt,
    }
}

diesel::table! {
    slots (store_id, id) {
        store_id -> Text,
        id -> Text,
        bytes -> Binary,
    }
}

diesel::table! {
    workstations (id) {
        id -> Text,
        name -> Text,
        name_key -> Text,
        account_id -> Text,
        credential_hash -> Binary,
        platform -> Text,
        client_version -> Text,
        disk_bytes -> Nullable<BigInt>,
        enrolled -> BigInt,
        last_seen -> Nullable<BigInt>,
        latest_run -> Nullable<BigInt>,
        rest -> Nullable<Text>,
        rest_since -> Nullable<BigInt>,
        rest_by -> Nullable<Text>,
        schedule -> Text,
        failures -> BigInt,
        asked -> Nullable<BigInt>,
        asked_by -> Nullable<Text>,
        paused_until -> Nullable<BigInt>,
        paused_by -> Nullable<Text>,
    }
}

diesel::table! {
    agents (workstation_id) {
        workstation_id -> Text,
        seen -> BigInt,
        due -> Nullable<BigInt>,
        delay -> Nullable<Text>,
        delayed -> Nullable<BigInt>,
        failures -> BigInt,
    }
}

diesel::table! {
    diagnoses (workstation_id) {
        workstation_id -> Text,
        at -> BigInt,
        found -> Text,
    }
}

diesel::table! {
    former_credentials (hash) {
        hash -> Binary,
        workstation_id -> Text,
        ended -> Text,
        at -> BigInt,
    }
}

diesel::table! {
    proofs (store_id) {
        store_id -> Text,
        at -> BigInt,
        secret -> Text,
    }
}

diesel::table! {
    waits (number) {
        number -> BigInt,
        workstation_id -> Text,
        reason -> Text,
        since -> BigInt,
        until -> BigInt,
    }
}

diesel::table! {
    stores (id) {
        id -> Text,
        workstation_id -> Text,
        destination_id -> Text,
        points -> BigInt,
        latest_sequence -> Nullable<BigInt>,
        created -> BigInt,
        size_limit -> Nullable<BigInt>,
        retention -> Nullable<Text>,
        held -> Nullable<Text>,
        held_by -> Nullable<Text>,
        removal_ends -> Nullable<BigInt>,
        removal_by -> Nullable<Text>,
        gone -> Nullable<BigInt>,
        untidy -> Bool,
        scrubbed -> Nullable<BigInt>,
        scrub_after -> Nullable<Text>,
        findings -> Nullable<Text>,
        lost_chunks -> BigInt,
        encrypted -> Bool,
        drilled -> Nullable<BigInt>,
        drilled_point -> Nullable<BigInt>,
        drill_failed -> Nullable<BigInt>,
        room_made -> Nullable<BigInt>,
        room_made_of -> Nullable<Text>,
        shortened -> Nullable<BigInt>,
        shortened_how -> Nullable<Text>,
        lost_points -> BigInt,
        slots_noted -> Bool,
        occupied -> BigInt,
    }
}

diesel::table! {
    enrolment_codes (number) {
        number -> BigInt,
        id -> Text,
        secret_hash -> Binary,
        account_id -> Text,
        destination_id -> Text,
        created -> BigInt,
        expires -> BigInt,
        used -> Nullable<BigInt>,
        cancelled -> Nullable<BigInt>,
        workstation_id -> Nullable<Text>,
        claims -> Nullable<Text>,
        machine -> Nullable<Text>,
        machine_key -> Nullable<Text>,
        limit_said -> Bool,
        size_limit -> Nullable<BigInt>,
        encrypted -> Bool,
    }
}

diesel::table! {
    runs (number) {
        number -> BigInt,
        id -> Text,
        workstation_id -> Text,
        outcome -> Text,
        phase -> Text,
        files_done -> BigInt,
        files_total -> Nullable<BigInt>,
        bytes_done -> BigInt,
        bytes_total -> Nullable<BigInt>,
        sent -> BigInt,
        started -> BigInt,
        last_heard -> BigInt,
        ended -> Nullable<BigInt>,
        sequence -> Nullable<BigInt>,
        changed_while_read -> BigInt,
        unreadable -> BigInt,
        disappeared -> BigInt,
        reason -> Nullable<Text>,
    }
}

diesel::table! {
    points (store_id, sequence) {
        store_id -> Text,
        sequence -> BigInt,
        run_number -> Nullable<BigInt>,
        kind -> Text,
        committed -> BigInt,
        files -> BigInt,
        bytes -> BigInt,
        exceptions -> BigInt,
        sent -> BigInt,
        held -> Nullable<Text>,
        held_by -> Nullable<Text>,
        removal_ends -> Nullable<BigInt>,
        removal_by -> Nullable<Text>,
        gone -> Nullable<BigInt>,
        gone_why -> Nullable<Text>,
        going -> Bool,
        lost -> Bool,
        changes -> Nullable<Text>,
        suspicion -> Nullable<Text>,
        mark -> Nullable<Text>,
        mark_reason -> Nullable<Text>,
        mark_by -> Nullable<Text>,
        marked -> Nullable<BigInt>,
    }
}

diesel::table! {
    jobs (number) {
        number -> BigInt,
        id -> Text,
        kind -> Text,
        store_id -> Text,
        state -> Text,
        done -> BigInt,
        total -> BigInt,
        by -> Text,
        created -> BigInt,
        started -> Nullable<BigInt>,
        ended -> Nullable<BigInt>,
        outcome -> Nullable<Text>,
    }
}

diesel::table! {
    restores (number) {
        number -> BigInt,
        id -> Text,
        workstation_id -> Text,
        sequence -> BigInt,
        scope -> Text,
        by -> Text,
        outcome -> Text,
        files_done -> BigInt,
        files_total -> Nullable<BigInt>,
        bytes_done -> BigInt,
        bytes_total -> Nullable<BigInt>,
        sent -> BigInt,
        exceptions -> BigInt,
        started -> BigInt,
        last_heard -> BigInt,
        ended -> Nullable<BigInt>,
        reason -> Nullable<Text>,
        purpose -> Text,
        origin -> Nullable<Text>,
        target -> Nullable<Text>,
        cancelled_by -> Nullable<Text>,
        checklist -> Nullable<Text>,
    }
}

diesel::table! {
    orders (number) {
        number -> BigInt,
        id -> Text,
        workstation_id -> Text,
        by -> Text,
        origin -> Text,
        state -> Text,
        created -> BigInt,
        expires -> BigInt,
        restore_id -> Nullable<Text>,
        reason -> Nullable<Text>,
        ended -> Nullable<BigInt>,
        sealed -> Nullable<Binary>,
    }
}

diesel::table! {
    mail (id) {
        id -> Integer,
        server -> Text,
        port -> Integer,
        security -> Text,
        login -> Nullable<Text>,
        password -> Nullable<Text>,
        sender -> Text,
        recipients -> Text,
        summary_hour -> Nullable<Integer>,
        delivered -> Nullable<BigInt>,
        trouble -> Nullable<Text>,
        trouble_since -> Nullable<BigInt>,
        summarised -> Nullable<BigInt>,
    }
}

diesel::table! {
    told (kind, subject) {
        kind -> Text,
        subject -> Text,
        at -> BigInt,
        detail -> Text,
    }
}

diesel::table! {
    sessions (id) {
        id -> Text,
        secret_hash -> Binary,
        account_id -> Text,
        carry -> Text,
        label -> Text,
        created -> BigInt,
        last_used -> BigInt,
        expires -> BigInt,
        scope -> Text,
        origin -> Text,
    }
}

diesel::table! {
    audit (number) {
        number -> BigInt,
        at -> BigInt,
        who -> Text,
        origin -> Text,
        what -> Text,
        subject -> Text,
        before -> Nullable<Text>,
        after -> Nullable<Text>,
        refused -> Bool,
        link -> Nullable<Binary>,
    }
}

diesel::joinable!(group_members -> groups (group_id));
diesel::joinable!(group_members -> accounts (account_id));
diesel::joinable!(destination_groups -> groups (group_id));
diesel::joinable!(destination_groups -> destinations (destination_id));
diesel::joinable!(destination_accounts -> accounts (account_id));
diesel::joinable!(destination_accounts -> destinations (destination_id));
diesel::joinable!(workstations -> accounts (account_id));
diesel::joinable!(agents -> workstations (workstation_id));
diesel::joinable!(former_credentials -> workstations (workstation_id));
diesel::joinable!(proofs -> stores (store_id));
diesel::joinable!(stores -> workstations (workstation_id));
diesel::joinable!(stores -> destinations (destination_id));
diesel::joinable!(enrolment_codes -> accounts (account_id));
diesel::joinable!(enrolment_codes -> destinations (destination_id));
diesel::joinable!(sessions -> accounts (account_id));
diesel::joinable!(jobs -> stores (store_id));
diesel::allow_tables_to_appear_in_same_query!(
    accounts,
    agents,
    groups,
    group_members,
    destination_groups,
    destination_accounts,
    destinations,
    former_credentials,
    proofs,
    workstations,
    waits,
    stores,
    enrolment_codes,
    runs,
    points,
    restores,
    orders,
    jobs,
    sessions,
);

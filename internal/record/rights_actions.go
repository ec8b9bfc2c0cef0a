package record

// Action is what was done, as the activity record says it: in the past, and about what.
type Action string

// What can be done.
const (
	// Builds.
	EventBuildBegun       Action = "build begun"
	EventBuildRecorded    Action = "build recorded"
	EventDocumentAttached Action = "document attached"
	EventBuildNameGiven   Action = "build name given"
	EventBuildRemoved     Action = "build removed"

	// Rights.
	EventUserMade            Action = "user made"
	EventRobotMade           Action = "robot made"
	EventUserChanged         Action = "user changed"
	EventRobotChanged        Action = "robot changed"
	EventUserRemoved         Action = "user removed"
	EventRobotRemoved        Action = "robot removed"
	EventSignedIn            Action = "signed in"
	EventSignedOutEverywhere Action = "signed out everywhere"
	EventPasswordChanged     Action = "password changed"
	EventTokenMade           Action = "token made"
	EventTokenRevoked        Action = "token revoked"
	EventTeamMade            Action = "team made"
	EventTeamChanged         Action = "team changed"
	EventTeamRemoved         Action = "team removed"
	EventGrantGiven          Action = "grant given"
	EventGrantTakenAway      Action = "grant taken away"
	EventRefused             Action = "refused"

	// Repositories and mirrors.
	EventNamesClaimed          Action = "names claimed"
	EventClaimLifted           Action = "claim lifted"
	EventClaimEnded            Action = "claim ended"
	EventRepositoryMade        Action = "repository made"
	EventRepositoryChanged     Action = "repository changed"
	EventRepositoryRemoved     Action = "repository removed"
	EventRepositoryBroughtBack Action = "repository brought back"
	EventCopiesForgotten       Action = "copies forgotten"
	EventPrefetchBegun         Action = "prefetch begun"

	// Publishing.
	EventVersionPublished   Action = "version published"
	EventFileAdded          Action = "file added"
	EventPublicationGivenUp Action = "publication given up"
	EventLabelMoved         Action = "label moved"
	EventVersionsWithdrawn  Action = "versions withdrawn"
	EventWithdrawalEnded    Action = "withdrawal ended"
	EventTransferBegun      Action = "transfer begun"
	EventTransferEnded      Action = "transfer ended"
	EventVersionsTaken      Action = "versions taken over"
	EventRelayMade          Action = "relay made"
	EventRelayChanged       Action = "relay changed"
	EventRelayRun           Action = "relay run"
	EventRelayRemoved       Action = "relay removed"
	EventBundleMade         Action = "bundle made"
	EventBundleLoaded       Action = "bundle loaded"

	// Promotion, and its keys.
	EventKeyAdded           Action = "key added"
	EventKeyRemoved         Action = "key removed"
	EventTrackMade          Action = "track made"
	EventTrackChanged       Action = "track changed"
	EventTrackRemoved       Action = "track removed"
	EventTargetSet          Action = "target set"
	EventTargetRemoved      Action = "target removed"
	EventPromotionAskedFor  Action = "promotion asked for"
	EventPromotionBegun     Action = "promotion begun"
	EventPromotionFailed    Action = "promotion failed"
	EventPromotionApproved  Action = "promotion approved"
	EventPromotionRefused   Action = "promotion refused"
	EventPromotionCancelled Action = "promotion cancelled"
	EventPromotionEnded     Action = "promotion ended"
	EventPromotionUndone    Action = "promotion undone"
	EventVersionsPromoted   Action = "versions promoted"
	EventVersionSentOn      Action = "version sent on"
	EventVersionNotSentOn   Action = "version not sent on"
	EventSentOnAgain        Action = "sent on again"

	// Retention.
	EventSweepBegun          Action = "sweep begun"
	EventSweepAsked          Action = "sweep asked"
	EventSweepStopped        Action = "sweep stopped"
	EventSweepDone           Action = "sweep done"
	EventSweepFailed         Action = "sweep failed"
	EventVersionsBroughtBack Action = "versions brought back"
	EventBytesReclaimed      Action = "bytes reclaimed"
	EventVersionsRemoved     Action = "versions removed"
	EventPolicyMade          Action = "policy made"
	EventPolicyChanged       Action = "policy changed"
	EventPolicyRemoved       Action = "policy removed"
	EventVersionPinned       Action = "version pinned"
	EventPinEnded            Action = "pin ended"
	EventRecordsMended       Action = "records mended"

	// Stores.
	EventStoreAdded    Action = "store added"
	EventStoreChanged  Action = "store changed"
	EventStoreRemoved  Action = "store removed"
	EventMoveBegun     Action = "move to store begun"
	EventMoveDone      Action = "moved to store"
	EventBytesVerified Action = "bytes verified"

	// Quotas.
	EventQuotaSet     Action = "quota set"
	EventQuotaRemoved Action = "quota removed"
	EventQuotaReached Action = "quota reached"

	// Safety.
	EventAdvisoryArrived    Action = "advisory arrived" // and is about what is kept
	EventAdvisoriesImported Action = "advisories imported"
	EventFeedAdded          Action = "feed added"
	EventFeedRemoved        Action = "feed removed"
	EventWaiverMade         Action = "waiver made"
	EventWaiverEnded        Action = "waiver ended"
	EventVetted             Action = "vetted" // accepted or refused
	EventVettingEnded       Action = "vetting ended"
	EventVettingWanted      Action = "vetting wanted"

	// Nodes.
	EventNodeDrained Action = "node drained"
	EventNodeResumed Action = "node resumed"

	// Search.
	EventSearchSaved        Action = "search saved"
	EventSavedSearchDropped Action = "saved search dropped"
)

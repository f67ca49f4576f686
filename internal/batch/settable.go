package batch

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
	"yardbroom/internal/source"
)

// Class says how a batch may change an attribute.
type Class int

// The classes. What no table knows is Unlisted: only the settings can allow it.
const (
	Unlisted Class = iota
	Allowed        // by set, add, clear and fill
	ByAction       // by an action that was made for it only
	Never          // not at all, whatever the settings say
)

func (c Class) String() string {
	return [...]string{"unlisted", "allowed", "by action", "never"}[c]
}

// allowed are the attributes that describe people, machines and groups: names,
// addresses, telephones, the organisation, numbers of the employer, notes. In
// lower case, those of all dialects together.
var allowedAttributes = nameSet(`
	givenName sn displayName initials middleName generationQualifier personalTitle title honorificTitle nickname
	department departmentNumber division company o organizationName businessCategory employeeID employeeNumber employeeType
	physicalDeliveryOfficeName roomNumber buildingName houseIdentifier location networkAddress
	street streetAddress postalAddress homePostalAddress postalCode postOfficeBox l st c co countryCode friendlyCountryName
	telephoneNumber mobile homePhone pager facsimileTelephoneNumber ipPhone primaryTelexNumber internationalISDNNumber
	otherTelephone otherMobile otherHomePhone otherPager otherFacsimileTelephoneNumber otherIpPhone primaryInternationalISDNNumber
	mail proxyAddresses otherMailbox rfc822Mailbox textEncodedORAddress
	description adminDescription adminDisplayName info comment notes url wWWHomePage labeledURI carLicense preferredLanguage preferredDeliveryMethod
	manager secretary assistant managedBy roleOccupant drink userClass uniqueIdentifier destinationIndicator gecos serialNumber
	extensionAttribute1 extensionAttribute2 extensionAttribute3 extensionAttribute4 extensionAttribute5 extensionAttribute6 extensionAttribute7
	extensionAttribute8 extensionAttribute9 extensionAttribute10 extensionAttribute11 extensionAttribute12 extensionAttribute13
	extensionAttribute14 extensionAttribute15
	msDS-PhoneticFirstName msDS-PhoneticLastName msDS-PhoneticDepartment msDS-PhoneticCompanyName msDS-PhoneticDisplayName`)

func init() {
	for n := 16; n <= 45; n++ {
		allowedAttributes["msexchextensionattribute"+strconv.Itoa(n)] = true
	}
}

// byAction are the attributes that an action of their own changes, and which.
var byActionAttributes = map[string]string{
	"useraccountcontrol": "disable and enable", "nsaccountlock": "disable and enable", "pwdaccountlockedtime": "disable, enable and unlock",
	"lockouttime": "unlock", "admincount": "unmark-privileged", "ntsecuritydescriptor": "unmark-privileged", "nsroledn": "leave-role", "accountunlocktime": "unlock", "passwordretrycount": "unlock",
	"samaccountname": "rename", "uid": "rename", "cn": "rename", "name": "rename", "userprincipalname": "rename", "distinguishedname": "move and rename", "entrydn": "move and rename",
	"accountexpires": "expire", "shadowexpire": "expire", "pwdendtime": "expire", "msexchhidefromaddresslists": "hide",
	"member": "join-group and leave-group", "uniquemember": "join-group and leave-group", "memberuid": "join-group and leave-group", "memberof": "join-group and leave-group",
	"userpassword": "reset-password", "unicodepwd": "reset-password", "pwdreset": "reset-password", "pwdlastset": "reset-password",
}

// neverAttributes decide on rights, sign-in, identity or policy.
var neverAttributes = nameSet(`
	objectClass objectCategory objectSid objectGUID entryUUID nsUniqueId sIDHistory securityIdentifier primaryGroupID groupType systemFlags
	isCriticalSystemObject instanceType dSCorePropagationData wellKnownObjects otherWellKnownObjects
	servicePrincipalName dNSHostName altSecurityIdentities userCertificate cACertificate crossCertificatePair authorityRevocationList certificateRevocationList
	userSMIMECertificate userPKCS12 sshPublicKey nsSshPublicKey ldapPublicKey ipaSshPubKey
	uidNumber gidNumber homeDirectory unixHomeDirectory loginShell homeDrive profilePath scriptPath logonHours logonWorkstation userWorkstations userParameters
	userSharedFolder msNPAllowDialin codePage desktopProfile defaultClassStore
	gPLink gPOptions gPCFileSysPath gPCMachineExtensionNames gPCUserExtensionNames versionNumber flags gPCFunctionalityVersion gPCWQLFilter
	authzTo authzFrom saslAuthzTo saslAuthzFrom owner seeAlso memberURL dgIdentity dgAuthz dgMemberOf aci aclRights entryACI host authorizedService
	nsRole nsManagedRoleDN nsRoleFilter nsRoleScopeDN nsAuthzInstanceName passwordPolicySubentry pwdPolicySubentry
	targetAddress mailForwardingAddress mgrpDeliverTo altRecipient deliverAndRedirect publicDelegates msExchDelegateListLink
	ref aliasedObjectName namingContexts subschemaSubentry collectiveExclusions subtreeSpecification creatorsName modifiersName
	lastLogon lastLogonTimestamp whenCreated whenChanged createTimestamp modifyTimestamp accountUnlockTime userCert radiusTunnelPrivateGroupId
	memberNisNetgroup nisNetgroupTriple automountInformation automountKey inetUserStatus inetSubscriberStatus accountStatus mailAccessDomain
	isMemberOf memberUser memberHost memberService userClassAccess krbPrincipalName krbCanonicalName kerberosPrincipal trustDirection trustAttributes trustType
	trustPartner dNSTombstoned userStatus isDeleted isRecycled lastKnownParent possSuperiors rIDAllocationPool currentLocation`)

// neverPrefixes begin the names of whole families of such attributes.
var neverPrefixes = []string{
	"pwd",
	"password",
	"msds-",
	"krb",
	"ms-mcs-",
	"mslaps-",
	"shadow",
	"nspassword",
	"nsslapd",
	"nsds5",
	"nsds7",
	"olc",
	"sudo",
	"samba",
	"ds-",
	"ipa",
	"cos",
	"radius",
	"apple-",
	"mspki",
	"mstpm",
	"msfve",
	"mskds",
	"mswmi-",
	"msrtcsip",
	"msts",
	"msexch",
	"frs",
	"msdfs",
	"tokengroups",
	"repl",
	"reps",
	"pki",
	"msrras",
	"msradius",
	"msnp",
	"sec-",
	"nsacct",
	"nsview",
	"automember",
	"dc",
	"nstls",
	"nsssl",
}

func nameSet(names string) map[string]bool {
	set := map[string]bool{}
	for name := range strings.FieldsSeq(names) {
		set[strings.ToLower(name)] = true
	}
	return set
}

var attributeForm = pattern.Lazy(`^[A-Za-z][A-Za-z0-9-]*$`)

// languageForm are the options of RFC 3866.
var languageForm = pattern.Lazy(`^(?i)lang-[a-z0-9-]+$`)

// ClassOf tells how a batch may change an attribute, by its name.
func ClassOf(attr string) Class {
	name := strings.ToLower(attr)
	switch _, action := byActionAttributes[name]; {
	case action:
		return ByAction
	case neverAttributes[name], directory.IsSecret(name), !attributeForm().MatchString(name):
		return Never
	case allowedAttributes[name]:
		return Allowed
	}
	if slices.ContainsFunc(neverPrefixes, func(p string) bool { return strings.HasPrefix(name, p) }) {
		return Never
	}
	return Unlisted
}

// Unsettable tells why no batch can change an attribute by set, add, clear or
// fill, whatever the settings and the server's schema say; "" where they decide.
func Unsettable(attr string) string {
	switch {
	case directory.IsOID(attr):
		return attr + " is a number: give the attribute's name"
	case strings.Contains(attr, ";"):
		plain, option, _ := strings.Cut(attr, ";")
		if !languageForm().MatchString(option) {
			return attr + " has an option: give the attribute's plain name, or one for a language"
		}
		return Unsettable(plain)
	case !attributeForm().MatchString(attr):
		return fmt.Sprintf("%q is not the name of an attribute", attr)
	}
	switch ClassOf(attr) {
	case ByAction:
		return attr + " is changed by " + byActionAttributes[strings.ToLower(attr)] + " only"
	case Never:
		return attr + " decides on rights, sign-in, identity or policy, and no batch changes it as a value"
	}
	return ""
}

// Settable tells why an attribute cannot be changed by set, add, clear or fill,
// "" where it can: it is in the table, or the settings allow it, and what the
// server's schema calls it by other names is nothing that decides. Values for a
// language (RFC 3866) need the settings' word.
func Settable(ctx context.Context, from source.Source, attr string, more []string) (string, error) {
	if why := Unsettable(attr); why != "" {
		return why, nil
	}
	names := []string{attr}
	if server, live := from.(*source.Server); live {
		d, err := server.Defined(ctx, attr)
		if err != nil {
			return "", err
		}
		if d != nil {
			if d.ReadOnly || d.Operational {
				return attr + " is for the server to write", nil
			}
			names = append(names, d.Names...)
		}
		if secret, err := server.Secret(ctx, attr); err != nil || secret {
			return attr + " holds secrets", err
		}
	} else if t := fileSchema(attr); t != nil {
		names = append(names, t...)
	}
	for _, name := range names {
		if why := Unsettable(name); why != "" {
			return attr + " is " + name + ": " + why, nil
		}
	}
	if strings.Contains(attr, ";") {
		names = []string{attr}
	}
	listed := func(name string) bool {
		return ClassOf(name) == Allowed ||
			slices.ContainsFunc(more, func(m string) bool { return strings.EqualFold(m, name) })
	}
	if !slices.ContainsFunc(names, listed) {
		return attr + " is not among the attributes that batches may change; where it decides on nothing, the settings can add it (batch: attributes)", nil
	}
	return "", nil
}

// fileSchema are the other names of an attribute that the servers' own schemas
// know, for a file, which has no schema.
func fileSchema(attr string) []string {
	var all []string
	for _, d := range []*directory.Dialect{directory.AD, directory.OpenLDAP} {
		if t := d.Schema().Type(attr); t != nil {
			all = append(all, t.Name)
		}
	}
	return all
}
